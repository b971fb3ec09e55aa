// Package sweep runs many traces side by side, within bounds.
package sweep

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"uakari/internal/endpoint"
	"uakari/internal/trail"
)

// Job is one endpoint from one client.
type Job struct{ Client, Endpoint string }

// Bounds is how many traces run at a time: in all, from each client, towards one
// endpoint and towards one network.
type Bounds struct {
	Wide   int
	Client map[string]int // of those that bear more than usual
}

// What is borne at a time, if nothing else is said.
const (
	perClient   = 4  // one session carries them
	perEndpoint = 32 // a service that is not overloaded by being asked
	perNetwork  = 64 // the states of one router or filter
)

// seats is the places of everything that bears a number of traces at a time.
type seats map[string]chan struct{}

func (s seats) add(key string, most int) {
	if s[key] == nil {
		s[key] = make(chan struct{}, most)
	}
}

// keys is what a job needs a place of, in the order in which it is waited for: all
// jobs have the same, so that none waits in a circle.
func keys(j Job) [3]string {
	return [3]string{"client " + j.Client, "network " + networkOf(j.Endpoint), "endpoint " + j.Endpoint}
}

// networkOf is where an endpoint is: the net of its address, or the domain of its
// name.
func networkOf(text string) string {
	e, err := endpoint.Parse(text)
	if err != nil {
		return text
	}
	addr, err := netip.ParseAddr(e.Host)
	if err != nil {
		_, domain, _ := strings.Cut(e.Host, ".")
		return domain
	}
	bits := 24
	if addr.Is6() {
		bits = 64
	}
	net, err := addr.Prefix(bits)
	if err != nil {
		return text
	}
	return net.String()
}

// Run does every job that has no row yet, within the bounds; each row is handed on
// as it comes. It ends when all are done or the context is. The rows come in the
// order of the jobs.
func Run(
	ctx context.Context,
	jobs []Job,
	bounds Bounds,
	have map[Job]trail.SweepRow,
	do func(context.Context, Job) trail.SweepRow,
	watch func(trail.SweepRow),
) []trail.SweepRow {
	rows := make([]*trail.SweepRow, len(jobs))
	places := seats{}
	for _, j := range jobs {
		k := keys(j)
		places.add(k[0], cmp.Or(bounds.Client[j.Client], perClient))
		places.add(k[1], perNetwork)
		places.add(k[2], perEndpoint)
	}
	var mu sync.Mutex // guards calls of watch
	var group errgroup.Group
	group.SetLimit(max(1, bounds.Wide))
	for _, j := range interleaved(jobs, bounds.Wide) {
		if row, ok := have[j.Job]; ok {
			rows[j.at] = &row
			continue
		}
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			for _, key := range keys(j.Job) {
				select {
				case places[key] <- struct{}{}:
					defer func() { <-places[key] }()
				case <-ctx.Done():
					return nil
				}
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
// together, so that none of them waits for a seat while others could run; and in
// which no more clients than so many are begun with before the first are done, so
// that their sessions can end.
func interleaved(jobs []Job, wide int) []placed {
	byClient := map[string][]placed{}
	var clients []string
	for i, j := range jobs {
		if byClient[j.Client] == nil {
			clients = append(clients, j.Client)
		}
		byClient[j.Client] = append(byClient[j.Client], placed{j, i})
	}
	list := make([]placed, 0, len(jobs))
	for window := range slices.Chunk(clients, max(1, wide)) {
		for turn, more := 0, true; more; turn++ {
			more = false
			for _, c := range window {
				if turn < len(byClient[c]) {
					list = append(list, byClient[c][turn])
					more = true
				}
			}
		}
	}
	return list
}
