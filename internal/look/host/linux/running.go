//go:build linux

package linux

import (
	"slices"
	"sync"
	"time"

	"uakari/internal/program"
)

// glance is how long a list of processes is good for: several looks of one
// moment ask for it.
const glance = 300 * time.Millisecond

// namedProcess is a process with its program.
type namedProcess struct {
	pid     int
	program string
}

var running struct {
	sync.Mutex
	at   time.Time
	list []namedProcess
}

// processes is every process of this host with its program, the newest first,
// as of a moment ago.
func processes() ([]namedProcess, error) {
	running.Lock()
	defer running.Unlock()
	if time.Since(running.at) < glance {
		return running.list, nil
	}
	return lookAround()
}

// processesNow is the same, as of now.
func processesNow() ([]namedProcess, error) {
	running.Lock()
	defer running.Unlock()
	return lookAround()
}

// lookAround lists the processes anew. The caller holds the lock.
func lookAround() ([]namedProcess, error) {
	all, err := pids()
	if err != nil {
		return nil, err
	}
	list := make([]namedProcess, len(all))
	for i, pid := range all {
		list[i] = namedProcess{pid, programName(pid)}
	}
	running.at, running.list = time.Now(), list
	return list, nil
}

// pidOf is the oldest process of a program on this host's network, of its own name before
// its workers'; 0 for none.
func pidOf(p program.Program) int {
	list, err := processes()
	if err != nil {
		return 0
	}
	for _, own := range []func(string) bool{func(name string) bool { return name == p.Name }, p.Runs} {
		for _, each := range slices.Backward(list) {
			if own(each.program) && !apart(each.pid) && sameRoot(each.pid) {
				return each.pid
			}
		}
	}
	return 0
}
