// Package sweep runs many traces side by side, within bounds.
package sweep

import (
	"context"
	"sync"

	"golang.org/x/sync/errgroup"

	"uakari/internal/trail"
)

// Job is one endpoint from one client.
type Job struct{ Client, Endpoint string }

// perClient is how many traces run from one client at a time.
const perClient = 4

// Run does every job that has no row yet, at most so many at a time and at most
// four from one client; each row is handed on as it comes. It ends when all are
// done or the context is. The rows come in the order of the jobs.
func Run(
	ctx context.Context,
	jobs []Job,
	wide int,
	have map[Job]trail.SweepRow,
	do func(context.Context, Job) trail.SweepRow,
	watch func(trail.SweepRow),
) []trail.SweepRow {
	rows := make([]*trail.SweepRow, len(jobs))
	seats := map[string]chan struct{}{}
	for _, j := range jobs {
		if seats[j.Client] == nil {
			seats[j.Client] = make(chan struct{}, perClient)
		}
	}
	var mu sync.Mutex // guards calls of watch
	var group errgroup.Group
	group.SetLimit(max(1, wide))
	for _, j := range interleaved(jobs) {
		if row, ok := have[j.Job]; ok {
			rows[j.at] = &row
			continue
		}
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			select {
			case seats[j.Client] <- struct{}{}:
				defer func() { <-seats[j.Client] }()
			case <-ctx.Done():
				return nil
			}
			if ctx.Err() != nil {
				return nil // both were ready
			}
			row := do(ctx, j.Job)
			if ctx.Err() != nil {
				return nil // it was cut off: it is done again when the sweep goes on
			}
			rows[j.at] = &row
			mu.Lock()
			defer mu.Unlock()
			watch(row)
			return nil
		})
	}
	group.Wait() // no job returns an error
	var list []trail.SweepRow
	for _, r := range rows {
		if r != nil {
			list = append(list, *r)
		}
	}
	return list
}

// placed is a job with its place.
type placed struct {
	Job
	at int
}

// interleaved is the jobs in an order in which those of one client do not stand
// together, so that none of them waits for a seat while others could run.
func interleaved(jobs []Job) []placed {
	byClient := map[string][]placed{}
	var clients []string
	for i, j := range jobs {
		if byClient[j.Client] == nil {
			clients = append(clients, j.Client)
		}
		byClient[j.Client] = append(byClient[j.Client], placed{j, i})
	}
	list := make([]placed, 0, len(jobs))
	for turn := 0; len(list) < len(jobs); turn++ {
		for _, c := range clients {
			if turn < len(byClient[c]) {
				list = append(list, byClient[c][turn])
			}
		}
	}
	return list
}
