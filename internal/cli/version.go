package cli

import (
	"fmt"
	"io"
	"runtime"
	"runtime/debug"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/trail"
)

// Version is set when a release is built.
var Version = "0.2.0"

// Day is the day of the source, "2026-12-01", where a release is built.
var Day string

// built is the day of the source that this program is built from; "" where it was built
// outside a repository.
func built() string {
	if Day != "" {
		return Day
	}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return ""
	}
	for _, s := range info.Settings {
		if at, err := time.Parse(time.RFC3339, s.Value); s.Key == "vcs.time" && err == nil {
			return at.UTC().Format(time.DateOnly)
		}
	}
	return ""
}

func newVersion() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:   "version",
		Short: "print the version of this program",
		Args:  takes(0, 0, "nothing"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if !asJSON {
				return tellVersion(cmd.OutOrStdout())
			}
			return told(
				cmd,
				true,
				trail.Build{
					Format:  "uakari.version/1",
					Version: Version,
					Go:      runtime.Version(),
					System:  runtime.GOOS + "/" + runtime.GOARCH,
					Built:   built(),
				},
				nil,
			)
		},
	}
	asData(cmd, &asJSON, " (uakari.version/1)")
	return cmd
}

func tellVersion(w io.Writer) error {
	from := ""
	if day := built(); day != "" {
		from = "of " + day + ", "
	}
	_, err := fmt.Fprintf(w, "uakari %s (%s%s, %s/%s)\n", Version, from, runtime.Version(), runtime.GOOS,
		runtime.GOARCH)
	return err
}
