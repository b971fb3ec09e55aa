package sweep

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"uakari/internal/trail"
)

// jobs is every one of some clients against every one of some endpoints.
func jobs(clients, endpoints int) (list []Job) {
	for c := range clients {
		for e := range endpoints {
			list = append(list, Job{fmt.Sprintf("gauge-%02d", c), fmt.Sprintf("tcp://10.20.0.%d:80", e)})
		}
	}
	return list
}

// TestRunBounds counts how many run side by side, in all and from one client,
// and sees the rows in the order of the jobs.
func TestRunBounds(t *testing.T) {
	for _, c := range []struct{ clients, endpoints, wide, most, mostFromOne int }{
		{10, 10, 6, 6, 4}, {1, 20, 32, 4, 4}, {3, 3, 0, 1, 1},
	} {
		var mu sync.Mutex
		running, most, from, mostFromOne := 0, 0, map[string]int{}, 0
		list := jobs(c.clients, c.endpoints)
		watched := 0
		full := make(chan struct{})
		rows := Run(context.Background(), list, Bounds{Wide: c.wide, Client: map[string]int{"here": 40}}, nil,
			func(_ context.Context, j Job) trail.SweepRow {
				mu.Lock()
				running++
				from[j.Client]++
				most, mostFromOne = max(most, running), max(mostFromOne, from[j.Client])
				if running == c.most && full != nil {
					close(full)
					full = nil
				}
				wait := full
				mu.Unlock()
				if wait != nil {
					<-wait // so that as many as may do run at once
				}
				mu.Lock()
				defer mu.Unlock()
				running--
				from[j.Client]--
				return trail.SweepRow{Client: j.Client, Endpoint: j.Endpoint}
			}, func(trail.SweepRow) { watched++ })
		if most != c.most || mostFromOne > c.mostFromOne {
			t.Errorf("%+v: %d side by side, %d from one client", c, most, mostFromOne)
		}
		if len(rows) != len(list) || watched != len(list) {
			t.Fatalf("%+v: %d rows, %d handed on", c, len(rows), watched)
		}
		for i, row := range rows {
			if (Job{row.Client, row.Endpoint}) != list[i] {
				t.Errorf("%+v: row %d is %s of %s", c, i, row.Endpoint, row.Client)
			}
		}
	}
}

// TestRunPlaces counts how many run side by side from a client that bears more or less than
// usual, towards one endpoint, and towards the networks of addresses and the domains of names.
func TestRunPlaces(t *testing.T) {
	endpoints := func(pattern string, count int) (list []Job) {
		for n := range count {
			list = append(list, Job{"gauge", fmt.Sprintf(pattern, n)})
		}
		return list
	}
	for name, c := range map[string]struct {
		jobs []Job
		from int // of the client, 0 as usual
		most int
	}{
		"a client that bears more": {endpoints("tcp://10.20.0.%d:80", 20), 7, 7},
		"a client that bears less": {endpoints("tcp://10.20.0.%d:80", 20), 2, 2},
		"one endpoint":             {endpoints("tcp://10.20.0.9:%[1]d", 40), 100, perEndpoint},
		"one network":              {endpoints("tcp://10.20.0.%d:80", 80), 100, perNetwork},
		"a network each":           {endpoints("tcp://10.20.%d.9:80", 80), 100, 80},
		"one network of IPv6":      {endpoints("tcp://[2001:db8:20::%d]:80", 80), 100, perNetwork},
		"a network of IPv6 each":   {endpoints("tcp://[2001:db8:20:%d::9]:80", 80), 100, 80},
		"one domain":               {endpoints("tcp://tide-%d.varzea.example:80", 80), 100, perNetwork},
		"a domain each":            {endpoints("tcp://tide.pier-%d.example:80", 80), 100, 80},
	} {
		if name == "one endpoint" {
			for i := range c.jobs {
				c.jobs[i].Endpoint = "tcp://10.20.0.9:80"
			}
		}
		var mu sync.Mutex
		running, most := 0, 0
		full := make(chan struct{})
		bounds := Bounds{Wide: 200, Client: map[string]int{"gauge": c.from}}
		Run(context.Background(), c.jobs, bounds, nil, func(_ context.Context, j Job) trail.SweepRow {
			mu.Lock()
			running++
			if most = max(most, running); running == c.most {
				select {
				case <-full:
				default:
					close(full)
				}
			}
			mu.Unlock()
			select {
			case <-full: // as many as may do run at once
			case <-time.After(10 * time.Second):
			}
			time.Sleep(time.Millisecond) // room for one too many
			mu.Lock()
			defer mu.Unlock()
			running--
			return trail.SweepRow{}
		}, func(trail.SweepRow) {})
		if most != c.most {
			t.Errorf("%s: %d side by side, expected %d", name, most, c.most)
		}
	}
}

// TestRunResumed does not do again what was done.
func TestRunResumed(t *testing.T) {
	list := jobs(2, 3)
	have := map[Job]trail.SweepRow{list[1]: {Client: list[1].Client, Endpoint: list[1].Endpoint, Summary: "kept"}}
	did := map[Job]bool{}
	rows := Run(context.Background(), list, Bounds{Wide: 1}, have, func(_ context.Context, j Job) trail.SweepRow {
		did[j] = true
		return trail.SweepRow{Client: j.Client, Endpoint: j.Endpoint}
	}, func(r trail.SweepRow) {
		if r.Summary == "kept" {
			t.Error("a kept row is handed on as new")
		}
	})
	if len(did) != 5 || did[list[1]] || len(rows) != 6 || rows[1].Summary != "kept" {
		t.Errorf("did %v, rows %v", did, rows)
	}
}

// TestRunCutOff leaves out what was cut off, so that it is done again.
func TestRunCutOff(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	n := 0
	rows := Run(ctx, jobs(1, 5), Bounds{Wide: 1}, nil, func(_ context.Context, j Job) trail.SweepRow {
		if n++; n == 3 {
			stop()
		}
		return trail.SweepRow{Client: j.Client, Endpoint: j.Endpoint}
	}, func(trail.SweepRow) {})
	if n != 3 || len(rows) != 2 {
		t.Errorf("%d ran, %d rows", n, len(rows))
	}
}

// TestInterleaved puts jobs of one client apart.
func TestInterleaved(t *testing.T) {
	list := []Job{{"a", "1"}, {"a", "2"}, {"a", "3"}, {"b", "1"}, {"c", "1"}, {"c", "2"}}
	for wide, want := range map[int]string{
		32: "a1@0 b1@3 c1@4 a2@1 c2@5 a3@2 ", 2: "a1@0 b1@3 a2@1 a3@2 c1@4 c2@5 ", 0: "a1@0 a2@1 a3@2 b1@3 c1@4 c2@5 ",
	} {
		got := ""
		for _, p := range interleaved(list, wide) {
			got += fmt.Sprintf("%s%s@%d ", p.Client, p.Endpoint, p.at)
		}
		if got != want {
			t.Errorf("%d wide: %s, want %s", wide, got, want)
		}
	}
}
