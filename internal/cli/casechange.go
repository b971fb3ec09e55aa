package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/weigh"
)

func newCaseChange() *cobra.Command {
	var temporary, asJSON bool
	var undo string
	var took string
	var undone int64
	cmd := &cobra.Command{
		Use: "change CASE [TEXT]", ValidArgsFunction: caseNumbers,
		Short: "write down what was changed, and whether it must be undone",
		Long: `Write down what was changed: in words, or by the number of a remedy of the case's
last trace, as it is told (--took 2, or --took 2.3). A temporary change keeps the case open until it is
marked as undone (--undone with its number, which uakari case show tells).`,
		Args: ofCase(1, 2, "the number of a CASE, and a TEXT in quotes"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return onCase(cmd, args[0], func(ctx context.Context, b casebook.Store, c casebook.Case) error {
				if undone > 0 {
					if err := b.Undone(ctx, c.ID, undone, time.Now()); errors.Is(err, casebook.ErrNone) {
						return fmt.Errorf(
							"case %d has no standing change %d; see: uakari case show %d",
							c.ID,
							undone,
							c.ID,
						)
					} else if err != nil {
						return err
					}
					return toldAfter(ctx, cmd, asJSON, b, args[0], nil)
				}
				e := casebook.Entry{At: time.Now(), Kind: casebook.Change, Temporary: temporary, Undo: undo, By: who()}
				var err error
				switch {
				case took != "":
					if e.Text, e.Undo, err = remedyOf(c, took); err != nil {
						return err
					}
					if undo != "" {
						e.Undo = undo
					}
				case len(args) == 2 && strings.TrimSpace(args[1]) != "":
					e.Text = args[1]
				default:
					return errors.New("change: what was done? Expected a TEXT in quotes, --took N or --undone N")
				}
				if temporary && e.Undo == "" {
					return errors.New("change: a temporary change says how it is undone: --undo \"…\"")
				}
				return toldAfter(ctx, cmd, asJSON, b, args[0], b.Add(ctx, c.ID, e))
			})
		},
	}
	cmd.Flags().BoolVar(&temporary, "temporary", false, "it must be undone before the case is closed")
	cmd.Flags().StringVar(&undo, "undo", "", "how it is undone, in `words` or as a command")
	cmd.Flags().StringVar(&took, "took", "", "the remedy with this `number` of the last trace was carried out")
	cmd.Flags().StringVar(&took, "remedy", "", "the same as --took")
	cmd.Flags().Lookup("remedy").Hidden = true
	cmd.Flags().Int64Var(&undone, "undone", 0, "the change with this `number` was undone")
	asData(cmd, &asJSON, caseAfter)
	return cmd
}

// remedyOf is a remedy of the case's last trace, by its number as it is told.
func remedyOf(c casebook.Case, number string) (text, undo string, err error) {
	traces := c.Traces()
	if len(traces) == 0 {
		return "", "", fmt.Errorf("case %d has no trace", c.ID)
	}
	judged, _ := weigh.Weigh(*traces[len(traces)-1].Set)
	r, err := judged.Taken(number)
	if err != nil {
		return "", "", fmt.Errorf("--took: %w", err)
	}
	if text = r.Do; r.Command != "" {
		text += ": " + r.Command
	}
	return text + " (on " + r.Host + ")", r.Undo, nil
}
