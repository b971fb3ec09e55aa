package cli

import (
	"context"
	"errors"
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
	list := []casebook.Case{}
	if !strings.Contains(c.First, "/") {
		return list, nil // "clear" and "unsure" are no cause
	}
	ofEndpoint, err := b.List(ctx, casebook.Wanted{First: c.First, Endpoint: c.Endpoint, Most: mostSimilar + 1})
	if err != nil {
		return nil, err
	}
	ofAny, err := b.List(ctx, casebook.Wanted{First: c.First, Most: 2*mostSimilar + 1})
	if err != nil {
		return nil, err
	}
	seen := map[int64]bool{c.ID: true}
	for _, other := range append(ofEndpoint, ofAny...) {
		if !seen[other.ID] && len(list) < mostSimilar {
			list = append(list, other)
		}
		seen[other.ID] = true
	}
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
