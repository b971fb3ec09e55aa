package test

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

// bare builds one of the bare programs.
func bare(b *testing.B, name string) string {
	b.Helper()
	path := filepath.Join(b.TempDir(), name)
	build := exec.Command("go", "build", "-o", path, "uakari/test/bare/"+name)
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		b.Fatalf("%v: %s", err, out)
	}
	return path
}

// sideBySide runs two commands in turn and returns the median wall time of
// each, so that a busy machine slows both.
func sideBySide(b *testing.B, rounds int, one, other []string) (time.Duration, time.Duration) {
	b.Helper()
	var first, second []time.Duration
	for range rounds {
		first = append(first, timed(b, one))
		second = append(second, timed(b, other))
	}
	return median(first), median(second)
}

func timed(b *testing.B, words []string) time.Duration {
	b.Helper()
	cmd := exec.Command(words[0], words[1:]...)
	began := time.Now()
	if out, err := cmd.CombinedOutput(); err != nil {
		b.Fatalf("%v: %v: %s", words, err, out)
	}
	return time.Since(began)
}

func median(list []time.Duration) time.Duration {
	slices.Sort(list)
	return list[len(list)/2]
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// BenchmarkVersion compares starting this program with starting an empty one.
// The bound is 2.
func BenchmarkVersion(b *testing.B) {
	empty := bare(b, "empty")
	for b.Loop() {
		own, other := sideBySide(b, 60, []string{program, "version"}, []string{empty})
		b.ReportMetric(ms(own)/ms(other), "ratio")
	}
}

// startup is what a run may cost beside the work itself.
const startup = 5 * time.Millisecond

// BenchmarkLoopback compares a healthy HTTPS trace with a bare program that
// does the unavoidable once. The bound is 1.5, not counting start-up.
func BenchmarkLoopback(b *testing.B) {
	dir := b.TempDir()
	stay := exec.Command(program, "demo", "--stay", dir, "healthy")
	out, err := stay.StdoutPipe()
	if err != nil {
		b.Fatal(err)
	}
	if err := stay.Start(); err != nil {
		b.Fatal(err)
	}
	defer stay.Wait()
	defer stay.Process.Signal(syscall.SIGTERM)
	for s := bufio.NewScanner(out); s.Scan() && !strings.HasPrefix(s.Text(), "Ctrl-C"); {
	}
	roots, url := filepath.Join(dir, "authority.pem"), "https://tidebook.varzea.example:8443/"
	trace := []string{program, "trace", "--resolver", "127.20.0.2:5353", "--trust", roots, url}
	get := []string{bare(b, "get"), "127.20.0.2:5353", roots, url}
	for b.Loop() {
		own, other := sideBySide(b, 40, trace, get)
		b.ReportMetric(ms(own-startup)/ms(other), "ratio")
		b.ReportMetric(ms(own), "trace-ms")
		b.ReportMetric(ms(other), "bare-ms")
	}
}

// BenchmarkLink compares a healthy HTTPS trace over a link of 20 ms each way
// with its longest chain of round trips: look-up, connect, handshake and
// question. The bound is 1.15.
func BenchmarkLink(b *testing.B) {
	const delay, trips = 20 * time.Millisecond, 4
	far := newLink(b, delay)
	trace := append(enter(far.client), program, "trace", "--resolver", far.resolver, "--trust", far.roots, far.url)
	get := append(enter(far.client), bare(b, "get"), far.resolver, far.roots, far.url)
	for b.Loop() {
		own, other := sideBySide(b, 15, trace, get)
		b.ReportMetric(ms(own)/ms(trips*2*delay), "ratio")
		b.ReportMetric(ms(other)/ms(trips*2*delay), "bare-ratio")
	}
}
