package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/fact"
	"uakari/internal/look/file"
	"uakari/internal/tell"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// hasBook reports whether this user keeps a casebook: none is made for what
// nobody asked to keep.
func hasBook() bool {
	path, err := casebook.Path()
	if err != nil {
		return false
	}
	return casebook.Shared(path) || isFile(path)
}

// clientOf is the host that a run asked from.
func clientOf(set fact.Set) string {
	for _, v := range set.Vantages {
		if v.Role == fact.Client {
			return v.Host
		}
	}
	return ""
}

// sinceWorked says what changed since the endpoint was reached: since the run
// that --since names or, with a casebook, the last one from the same client. A
// run that reached it is kept there for the next time.
func (f *traceFlags) sinceWorked(ctx context.Context, cmd *cobra.Command, set fact.Set, judged *trail.Trail) error {
	endpoint, client := set.Ask.Endpoint.Input, clientOf(set)
	reached := judged.Reached == trail.Yes && judged.Outcome == trail.OutcomeClear
	var before *fact.Set
	from := f.since
	switch {
	case f.since != "":
		was, err := f.runBefore(ctx, cmd, f.since)
		if err != nil {
			return err
		}
		before = &was
	case !hasBook():
		return nil
	case reached:
		return withBook(
			cmd,
			func(ctx context.Context, b casebook.Store) error { return b.Reached(ctx, endpoint, client, set) },
		)
	default:
		err := withBook(cmd, func(ctx context.Context, b casebook.Store) (err error) {
			before, err = b.Baseline(ctx, endpoint, client)
			return err
		})
		if err != nil || before == nil {
			return err
		}
		from = "the casebook"
	}
	judged.Since = sinceRun(*before, set, *judged, "")
	judged.Since.From = from
	return nil
}

// runBefore is a kept run: the facts in a file, a host's record, or the last
// trace of a case that reached its endpoint.
func (s *seeing) runBefore(ctx context.Context, cmd *cobra.Command, where string) (fact.Set, error) {
	if _, err := caseID(where); err == nil && !isFile(where) {
		c, err := tracedCase(cmd, where)
		if err != nil {
			return fact.Set{}, err
		}
		for i := len(c.Traces()) - 1; i >= 0; i-- {
			set := *c.Traces()[i].Set
			if judged, err := weigh.Weigh(set); err == nil && judged.Outcome == trail.OutcomeClear {
				return set, nil
			}
		}
		return fact.Set{}, fmt.Errorf("case %s: no trace of it reached the endpoint; expected one that did", where)
	}
	if where == "baseline" && !isFile(where) {
		path, err := baselinePath()
		if err != nil {
			return fact.Set{}, err
		}
		if where = path; !isFile(path) {
			return fact.Set{},
				errors.New("no baseline of this host is kept; while it is well: uakari record --baseline")
		}
	}
	text, err := s.read(ctx, where, file.MostKept)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			err = fmt.Errorf("%s: there is no such file; expected a case, facts or a record", where)
		}
		return fact.Set{}, err
	}
	if record, err := fact.DecodeRecord(where, text); err == nil {
		return setOf(record), nil
	}
	return fact.DecodeSet(where, text)
}

// setOf is a record as a set of facts.
func setOf(record fact.HostRecord) fact.Set {
	set := fact.Set{
		Vantages: []fact.Vantage{{ID: "r1", Role: fact.Server, Host: record.Host, Means: fact.Record}},
		Ended:    record.Ended,
	}
	if record.For != nil {
		set.Ask.Endpoint = *record.For
	}
	for _, f := range record.Facts {
		f.Vantage = "r1"
		set.Facts = append(set.Facts, f)
	}
	return set
}

func newDiffer() *cobra.Command {
	var s seeing
	color, asJSON := "", false
	cmd := &cobra.Command{
		Use:   "differ A B",
		Short: "what differs between two records, of one host or of two that should be alike",
		Long: `Compare two records or facts: of one host at two times, or of two hosts that
should be alike, one of which works. What bears on a connection is told: filters,
routes, who holds the ports, services, settings, lists, names, certificates.
"baseline" is what this host was like while it was well (record --baseline).

Exit status: 0 they are alike, 1 they differ, 2 wrong usage.`,
		Args: takes(2, 2, "two files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			on, err := colour(color, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			ctx, stop := interruptible(cmd)
			defer stop()
			var sets [2]fact.Set
			for i := range sets {
				if sets[i], err = s.runBefore(ctx, cmd, args[i]); err != nil {
					return err
				}
			}
			alike(&sets[0], sets[1])
			changed := weigh.Since(sets[0], sets[1], nil)
			out := trail.Difference{
				Format:  "uakari.differ/1",
				A:       args[0],
				B:       args[1],
				Changed: append([]trail.Changed{}, changed...),
			}
			if err := told(cmd, asJSON, out, func() string {
				return tell.Differ(args[0], args[1], changed,
					on)
			}); err != nil {
				return err
			}
			if len(changed) > 0 {
				return exit(exitFault)
			}
			return nil
		},
	}
	asData(cmd, &asJSON, " (uakari.differ/1)")
	cmd.Flags().StringVar(&color, "color", "auto", "auto, always or never")
	return cmd
}

// alike calls the only host of a set as that of another is called, so that two
// hosts can be compared.
func alike(set *fact.Set, other fact.Set) {
	if len(set.Vantages) == 1 && len(other.Vantages) == 1 {
		set.Vantages[0].Host = other.Vantages[0].Host
	}
}
