package cli

import (
	"io"
	"runtime"

	"github.com/spf13/cobra"
)

// Version is set when a release is built.
var Version = "0.1.0-dev"

func newVersion() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "the version of this program",
		Args:  takes(0, 0, "nothing"),
		RunE:  func(cmd *cobra.Command, _ []string) error { return tellVersion(cmd.OutOrStdout()) },
	}
}

func tellVersion(w io.Writer) error {
	_, err := io.WriteString(w, "uakari "+Version+" ("+runtime.Version()+", "+runtime.GOOS+"/"+runtime.GOARCH+")\n")
	return err
}
