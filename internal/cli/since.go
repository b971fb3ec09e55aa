package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look/file"
	"uakari/internal/tell"
	"uakari/internal/trace"
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

// reached reports whether a run is one that later ones are compared with.
func reached(t trail.Trail) bool { return t.Reached == trail.Yes && t.Outcome == trail.OutcomeClear }

// comparison is a run beside an earlier one that reached the endpoint.
type comparison struct {
	before *fact.Set // nil: there is none
	from   string    // where it was kept: a file, a case, the casebook
	now    fact.Set  // this run, with what is compared
	given  bool      // the user named the earlier one
}

// sinceGiven is a comparison with the run that --since names.
func (f *traceFlags) sinceGiven(ctx context.Context, cmd *cobra.Command, input string) (comparison, error) {
	was, err := f.runBefore(ctx, cmd, f.since)
	if err != nil {
		return comparison{}, err
	}
	return comparison{before: &was, from: f.since, given: true}, sameEndpoint(f.since, was, input)
}

// with takes the looks that a comparison needs, while the hosts can be looked at:
// of a run that fails, all that was read when it worked, of which the casebook has
// the last; of one that works, what the next one that fails is compared with.
func (c *comparison) with(ctx context.Context, cmd *cobra.Command, run seenRun, at []trace.Vantage) {
	if c.now = run.set; !c.given && reached(run.judged) {
		serves := func(vantage string) bool { return run.judged.Host(vantage) != "" }
		c.now = trace.Standing(ctx, run.set, at, serves)
		return
	}
	if !c.given && hasBook() {
		c.from = "the casebook"
		err := withBook(cmd, func(ctx context.Context, b casebook.Store) (err error) {
			c.before, err = b.Baseline(ctx, run.set.Ask.Endpoint.Input, clientOf(run.set))
			return err
		})
		if err != nil {
			fmt.Fprintf(cmd.ErrOrStderr(), "uakari: what changed since it worked is not told: %s\n",
				foreign.Printable(err.Error()))
		}
	}
	if c.before != nil {
		c.now = trace.Compared(ctx, run.set, *c.before, at)
	}
}

// told adds what changed to a trail, or keeps a run that reached its endpoint for
// the next that does not.
func (c *comparison) told(cmd *cobra.Command, judged *trail.Trail) {
	switch {
	case c.before != nil:
		judged.Since = sinceRun(*c.before, c.now, *judged, "")
		judged.Since.From = c.from
	case !c.given && reached(*judged):
		keepBaseline(cmd, c.now)
	}
}

// sameEndpoint refuses facts of another endpoint: what differs from those has no
// bearing on this one.
func sameEndpoint(where string, was fact.Set, input string) error {
	e, err := endpoint.Parse(input)
	if err != nil {
		return err
	}
	of := was.Ask.Endpoint
	if of.Host != "" && (of.Host != e.Host || of.Port != e.Port || of.Transport != e.Transport) {
		return fmt.Errorf("--since %s: it is of %s; expected a run of %s", where, of.Input, input)
	}
	return nil
}

// keepBaseline keeps a run that reached its endpoint, for the next that does not.
func keepBaseline(cmd *cobra.Command, set fact.Set) {
	had := hasBook()
	err := withBook(cmd, func(ctx context.Context, b casebook.Store) error {
		return b.Reached(ctx, set.Ask.Endpoint.Input, clientOf(set), set)
	})
	if err != nil && (had || os.Getenv("UAKARI_CASEBOOK") != "") {
		fmt.Fprintf(cmd.ErrOrStderr(), "uakari: this run is not kept to compare a later one with: %s\n",
			foreign.Printable(err.Error()))
	}
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
	if text, err = unpasted(where, text); err != nil {
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
		Short: "compare two host records",
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
