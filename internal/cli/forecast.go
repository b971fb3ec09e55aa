package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/foreign"
)

// forecast says how long it took before until an endpoint worked, by the casebook; "" where
// nobody waited for it yet. It says no more than that: a casebook that cannot be read is no
// reason not to wait.
func forecast(cmd *cobra.Command, endpoint string) string {
	var waits []time.Duration
	err := withBook(cmd, func(ctx context.Context, b casebook.Store) (err error) {
		waits, err = b.Waits(ctx, endpoint)
		return err
	})
	if err != nil || len(waits) == 0 {
		return ""
	}
	slices.Sort(waits)
	text := fmt.Sprintf("it took %s before", foreign.Span(waits[len(waits)/2]))
	if n := len(waits); n > 1 {
		text = fmt.Sprintf("it took %s before, in the middle of %d times (%s to %s)", foreign.Span(waits[n/2]), n,
			foreign.Span(waits[0]), foreign.Span(waits[n-1]))
	}
	return text
}
