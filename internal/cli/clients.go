package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"uakari/internal/fact"
	"uakari/internal/tell"
	"uakari/internal/trace"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// seenRun is one trace: what was seen, and its judgement.
type seenRun struct {
	set    fact.Set
	judged trail.Trail
}

// traceOnce traces, and what lies behind.
func traceOnce(ctx context.Context, ask fact.Ask, at []trace.Vantage, watch func(trace.Event)) seenRun {
	set, judged := trace.Run(ctx, ask, at, watch)
	if set = trace.Follow(ctx, set, at, watch); len(set.Behind) > 0 {
		judged, _ = weigh.Weigh(set)
	}
	return seenRun{set, judged}
}

// byClient is the vantages of one run for each client: itself, and all that are
// no clients.
func byClient(at []trace.Vantage) [][]trace.Vantage {
	isClient := func(v trace.Vantage) bool { return v.Info().Role == fact.Client }
	others := slices.DeleteFunc(slices.Clone(at), isClient)
	var list [][]trace.Vantage
	for _, v := range at {
		if isClient(v) {
			list = append(list, append([]trace.Vantage{v}, others...))
		}
	}
	if len(list) == 0 {
		return [][]trace.Vantage{at}
	}
	return list
}

// tellClients tells several clients' traces: who reaches the endpoint and who does
// not, and for the latter what differs from one that does.
func (f *traceFlags) tellClients(cmd *cobra.Command, runs []seenRun) error {
	if f.file != "" || f.facts != "" || f.kept != "" || f.since != "" {
		return errors.New("trace: --output, --facts, --case and --since are for one client; there are several")
	}
	works := slices.IndexFunc(runs, func(r seenRun) bool {
		return r.judged.Reached == trail.Yes && r.judged.Outcome == trail.OutcomeClear
	})
	on, err := colour(f.color, cmd.OutOrStdout())
	if err != nil {
		return err
	}
	worst := exit(exitClear)
	for i := range runs {
		r := &runs[i]
		if status := statuses[r.judged.Outcome]; status == exitFault || worst == exitClear {
			worst = status
		}
		if works >= 0 && i != works && r.judged.Outcome != trail.OutcomeClear {
			good := runs[works].set
			r.judged.Since = sinceRun(good, r.set, r.judged, clientOf(good))
		}
		if f.out == "text" {
			fmt.Fprint(cmd.OutOrStdout(), tell.Answer(r.judged, on))
		}
	}
	for _, r := range runs {
		if f.out == "text" {
			if r.judged.Outcome == trail.OutcomeClear {
				continue
			}
			fmt.Fprintln(cmd.OutOrStdout())
		}
		if err := f.tell(cmd, r.set, r.judged); err != nil {
			var status exit
			if !errors.As(err, &status) {
				return err
			}
		}
	}
	if worst == exitClear {
		return nil
	}
	return worst
}

// sinceRun is what differs of a run from one that reached the endpoint: an earlier
// one, or that of another client beside it.
func sinceRun(good, now fact.Set, judged trail.Trail, beside string) *trail.Since {
	return &trail.Since{
		When: good.Ended, Beside: beside,
		Changed: append([]trail.Changed{}, weigh.Since(calledAlike(good, now), now, judged.Causes)...),
	}
}

// calledAlike is a set whose client is called as that of another, so that the two
// can be compared.
func calledAlike(set, other fact.Set) fact.Set {
	name := clientOf(other)
	set.Vantages = slices.Clone(set.Vantages)
	for i := range set.Vantages {
		if set.Vantages[i].Role == fact.Client {
			set.Vantages[i].Host = name
			break
		}
	}
	return set
}
