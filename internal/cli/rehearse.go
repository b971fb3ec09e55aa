package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/tell"
	"uakari/internal/weigh"
)

func newRehearse() *cobra.Command {
	color, asJSON := "", false
	s := &seeing{}
	cmd := &cobra.Command{
		Use:   "rehearse CASE|FACTS",
		Short: "rehearse the fixes on the kept facts, before anybody changes anything",
		Long: `Take the facts that a trace kept, and suppose its fixes one by one, in the order
of their dependencies. Judge again after each. It prints who must do what,
what is still in the way after each step, and what only a new trace can tell.
Nothing is looked at, and nothing is changed.`,
		Example: `  uakari rehearse 3
  uakari trace --facts f.json https://tidebook.varzea.example/ ; uakari rehearse f.json`,
		Args:              takes(1, 1, "a case, or a file of facts"),
		ValidArgsFunction: caseNumbers,
		RunE: func(cmd *cobra.Command, args []string) error {
			on, err := colour(color, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(cmd.Context(), rehearsalTime)
			defer cancel()
			kept, err := s.keptSet(ctx, cmd, args[0])
			if err != nil {
				return err
			}
			r := weigh.Rehearse(kept.set)
			if id, err := caseID(args[0]); err == nil && !isFile(args[0]) {
				note := casebook.Entry{Kind: casebook.Note, At: time.Now(), By: who(), Text: tell.Rehearsal(r, false)}
				if err := withBook(cmd, func(ctx context.Context, b casebook.Store) error {
					return b.Add(ctx, id, note)
				}); err != nil {
					return err
				}
			}
			if err := told(cmd, asJSON, r, func() string { return tell.Rehearsal(r, on) }); err != nil {
				return err
			}
			if len(r.Steps) > 0 && !r.Clears {
				return exit(exitFault)
			}
			return nil
		},
	}
	asData(cmd, &asJSON, " (uakari.rehearsal/1)")
	cmd.Flags().StringVar(&color, "color", "auto", "auto, always or never")
	return cmd
}

// rehearsalTime bounds a rehearsal: it only thinks.
const rehearsalTime = 30 * time.Second
