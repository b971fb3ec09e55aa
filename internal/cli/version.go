package cli

import (
	"io"
	"runtime"

	"github.com/spf13/cobra"

	"uakari/internal/trail"
)

// Version is set when a release is built.
var Version = "0.1.0-dev"

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
				},
				nil,
			)
		},
	}
	asData(cmd, &asJSON, " (uakari.version/1)")
	return cmd
}

func tellVersion(w io.Writer) error {
	_, err := io.WriteString(w, "uakari "+Version+" ("+runtime.Version()+", "+runtime.GOOS+"/"+runtime.GOARCH+")\n")
	return err
}
