package cli

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/tell"
)

// mostSimilar bounds how many cases are told as like another.
const mostSimilar = 10

func newCaseSimilar() *cobra.Command {
	var asJSON bool
	var color string
	cmd := &cobra.Command{
		Use: "similar CASE", ValidArgsFunction: caseNumbers,
		Short: "list other cases with the same cause, and what fixed them",
		Args:  ofCase(1, 1, "the number of a CASE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			on, err := colour(color, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			return onCase(cmd, args[0], func(ctx context.Context, b casebook.Store, c casebook.Case) error {
				list, err := similar(ctx, b, c)
				return errors.Join(err, told(cmd, asJSON, list, func() string { return tell.Similar(c, list, on) }))
			})
		},
	}
	asData(cmd, &asJSON, ", without what was seen")
	cmd.Flags().StringVar(&color, "color", "auto", "auto, always or never")
	return cmd
}

// similar is the cases whose first cause was the same: those of the same endpoint
// first, then the newest, with what was noted and done, and without what was seen.
func similar(ctx context.Context, b casebook.Store, c casebook.Case) ([]casebook.Case, error) {
	all, err := b.List(ctx)
	if err != nil {
		return nil, err
	}
	list := slices.DeleteFunc(all, func(other casebook.Case) bool {
		return other.ID == c.ID || other.First != c.First ||
			!strings.Contains(c.First, "/") // "clear" and "unsure" are no cause
	})
	slices.SortStableFunc(list, func(x, y casebook.Case) int {
		rank := func(other casebook.Case) int {
			if other.Endpoint == c.Endpoint {
				return 0
			}
			return 1
		}
		return rank(x) - rank(y)
	})
	list = list[:min(len(list), mostSimilar)]
	for i := range list {
		if list[i], err = b.Get(ctx, list[i].ID); err != nil {
			return nil, err
		}
		for j := range list[i].Entries {
			list[i].Entries[j].Set = nil
		}
	}
	return list, nil
}
