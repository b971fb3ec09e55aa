package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/term"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/trace"
)

// isTerminal reports whether a writer is a terminal.
func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd())) && escapes(f.Fd())
}

// columnsOf is how wide a terminal is; 0 for what is none.
func columnsOf(w io.Writer) int {
	f, ok := w.(*os.File)
	if !ok {
		return 0
	}
	columns, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0 // no terminal
	}
	return columns
}

// colour decides on colour by the flag, the environment and the writer.
func colour(flag string, w io.Writer) (bool, error) {
	switch flag {
	case "always":
		return true, nil
	case "never":
		return false, nil
	case "auto":
		return isTerminal(w) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb", nil
	}
	return false, fmt.Errorf("--color %q: expected auto, always or never", flag)
}

// progress shows on a terminal which looks are under way, on one line that
// it rewrites and in the end removes.
type progress struct {
	w     io.Writer
	began time.Time
	done  chan struct{}
	ended sync.WaitGroup

	mu      sync.Mutex // guards running
	running []string
}

// newProgress begins; a writer that is no terminal gets nothing.
func newProgress(w io.Writer) *progress {
	p := &progress{w: w, began: time.Now(), done: make(chan struct{})}
	if isTerminal(w) {
		p.ended.Go(p.show)
	}
	return p
}

// watch takes an event of the trace.
func (p *progress) watch(e trace.Event) {
	name := lookName(e.Order)
	p.mu.Lock()
	defer p.mu.Unlock()
	if !e.Ended {
		p.running = append(p.running, name)
		return
	}
	for i, each := range p.running {
		if each == name {
			p.running = append(p.running[:i], p.running[i+1:]...)
			return
		}
	}
}

func lookName(o fact.Order) string {
	t := o.Target
	switch {
	case o.Look == fact.LookSession:
		return "connecting to " + endpoint.HostPort(t.Addr.String(), t.Port)
	case t.Name != "":
		return "looking up " + t.Name
	}
	return "looking at " + string(o.Look)
}

// show rewrites the line until stop.
func (p *progress) show() {
	const often, shy = 100 * time.Millisecond, 300 * time.Millisecond
	tick := time.NewTicker(often)
	defer tick.Stop()
	for {
		select {
		case <-p.done:
			fmt.Fprint(p.w, "\r\x1b[K")
			return
		case <-tick.C:
			if time.Since(p.began) < shy {
				continue
			}
			p.mu.Lock()
			text := strings.Join(p.running, ", ")
			p.mu.Unlock()
			line := []rune(foreign.Printable(fmt.Sprintf("%.0f s  %s", time.Since(p.began).Seconds(), text)))
			fmt.Fprint(p.w, "\r\x1b[K"+string(line[:min(len(line), 78)]))
		}
	}
}

// stop removes the line.
func (p *progress) stop() {
	close(p.done)
	p.ended.Wait()
}
