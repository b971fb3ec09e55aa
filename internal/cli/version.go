package cli

import (
	"fmt"
	"runtime"

	"github.com/spf13/cobra"
)

// Version is set when a release is built.
var Version = "0.1.0-dev"

func newVersion() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "the version of this program",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := fmt.Fprintf(cmd.OutOrStdout(), "uakari %s (%s, %s/%s)\n", Version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
			return err
		},
	}
}
