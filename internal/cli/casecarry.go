package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/foreign"
	"uakari/internal/look/file"
)

func newCaseExport() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use: "export [CASE…]", ValidArgsFunction: caseNumbers, Short: "write cases, to be imported elsewhere",
		Args: takes(0, manyArgs, "numbers of cases"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return withBook(cmd, func(ctx context.Context, b casebook.Store) error {
				var ids []int64
				for _, arg := range args {
					c, err := getCase(ctx, b, arg)
					if err != nil {
						return err
					}
					ids = append(ids, c.ID)
				}
				var text strings.Builder
				left, err := casebook.Export(ctx, b, &text, ids...)
				if err != nil {
					return err
				}
				for _, each := range left {
					fmt.Fprintln(cmd.ErrOrStderr(), "uakari: "+foreign.Printable(each.Error()))
				}
				return write(cmd, file, []byte(text.String()))
			})
		},
	}
	cmd.Flags().StringVarP(&file, "output", "o", "", "write to this `file` instead of standard output")
	return cmd
}

func newCaseImport() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:   "import FILE",
		Short: "take over cases that were exported elsewhere",
		Args:  takes(1, 1, "a file that uakari case export wrote, or -"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return withBook(cmd, func(ctx context.Context, b casebook.Store) error {
				in := io.Reader(cmd.InOrStdin())
				if args[0] != "-" {
					f, err := file.Open(args[0])
					if err != nil {
						return err
					}
					defer f.Close()
					in = f
				}
				// What hangs is left: closing ends the reading, if anything does.
				defer context.AfterFunc(ctx, func() {
					if c, ok := in.(io.Closer); ok {
						c.Close()
					}
				})()
				added, err := casebook.Import(ctx, b, args[0], in)
				if asJSON && err == nil {
					return told(cmd, true, append([]casebook.Case{}, added...), nil)
				}
				for _, c := range added {
					fmt.Fprintf(cmd.OutOrStdout(), "case %d: %s\n", c.ID, foreign.Printable(c.Title))
				}
				if err == nil && len(added) == 0 {
					fmt.Fprintln(cmd.OutOrStdout(), "all of them are here already")
				}
				return err
			})
		},
	}
	asData(cmd, &asJSON, " (those that are new here)")
	return cmd
}
