package cli

import (
	"context"

	"github.com/spf13/cobra"

	"uakari/internal/look/file"
)

// shownFile is a kind of file that people write, and the page that it is shown as.
type shownFile struct {
	short, of string
	format    string        // "uakari.card/1"
	folder    func() string // a team's, where such files are looked for too
	most      int64         // bytes
	page      func(ctx context.Context, path string, colour bool) (string, error)
}

// newShow is the command that shows such a file, or writes it as data.
func newShow(s shownFile) *cobra.Command {
	asJSON, color := false, ""
	cmd := &cobra.Command{
		Use: "show FILE", Short: s.short, Args: takes(1, 1, s.of), ValidArgsFunction: yamlFiles,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := interruptible(cmd)
			defer stop()
			on, err := colour(color, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			page, err := s.page(ctx, args[0], on)
			if err != nil {
				return err
			}
			if !asJSON {
				return write(cmd, "", []byte(page))
			}
			text, err := file.Typed(ctx, inFolder(s.folder(), args[0]), s.most)
			if err != nil {
				return err
			}
			return asWritten(cmd, args[0], text)
		},
	}
	asData(cmd, &asJSON, " ("+s.format+")")
	cmd.Flags().StringVar(&color, "color", "auto", "auto, always or never")
	return cmd
}
