package test

import (
	"bufio"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"uakari/internal/demo"
	"uakari/internal/trail"
)

// TestDemo plays the whole story: its own exit status says whether every
// fault was found and found mended.
func TestDemo(t *testing.T) {
	r := run(t, "demo")
	if r.status != 0 || r.stderr != "" {
		t.Errorf("status %d, %s\n%s", r.status, r.stderr, r.stdout)
	}
	if strings.Contains(r.stdout, "\x1b") {
		t.Error("colour in a pipe")
	}
	for _, c := range demo.Chapters {
		if !strings.Contains(r.stdout, c.Title) {
			t.Errorf("chapter %s is missing", c.Name)
		}
	}
	if list := run(t, "demo", "--list"); list.status != 0 || strings.Count(list.stdout, "\n") != len(demo.Chapters) {
		t.Errorf("the list: %+v", list)
	}
}

// TestStay keeps the broken world up and tries the printed lines by hand.
func TestStay(t *testing.T) {
	cmd := exec.Command(program, "demo", "--stay", t.TempDir())
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer cmd.Wait()
	defer cmd.Process.Signal(syscall.SIGTERM)
	lines := map[string][]string{} // the words of each chapter's command, by its title
	title := ""
	for s := bufio.NewScanner(out); s.Scan() && !strings.HasPrefix(s.Text(), "Ctrl-C"); {
		if words := strings.Fields(s.Text()); strings.HasPrefix(s.Text(), "  uakari trace ") {
			lines[title] = words[2:]
		} else {
			title = s.Text()
		}
	}
	for _, c := range demo.Chapters {
		t.Run(c.Name, func(t *testing.T) {
			words := lines[c.Title]
			if len(words) == 0 {
				t.Fatalf("no command for %q", c.Title)
			}
			judged := traced(t, nil, append(words, "--wait", "1s")...)
			var want []string
			for _, id := range c.Finds {
				want = append(want, id+" proven")
			}
			expect(t, judged, want...)
			if len(c.Finds) == 0 {
				expectHealthy(t, judged)
			}
			for _, cause := range judged.Blocking() {
				if len(cause.Because) == 0 || len(cause.Remedies) == 0 {
					t.Errorf("%s: evidence %v, %d remedies", cause.ID, cause.Because, len(cause.Remedies))
				}
			}
		})
	}
	t.Run("text", func(t *testing.T) {
		for _, c := range demo.Chapters {
			r := run(t, append([]string{"trace", "--wait", "1s", "--color", "never"}, lines[c.Title]...)...)
			first, _, _ := strings.Cut(r.stdout, "\n")
			word := "No: "
			if len(c.Finds) == 0 {
				word = "Yes: "
			}
			if !strings.HasPrefix(first, word) || r.stderr != "" {
				t.Errorf("%s: first line %q, standard error %q", c.Name, first, r.stderr)
			}
		}
	})
	t.Run("only", func(t *testing.T) {
		judged := traced(t, nil, append(lines["Nothing is wrong"], "--only", "certs,answer")...)
		for _, f := range judged.Rungs {
			asked := f.Name == trail.Certs || f.Name == trail.Answer
			if asked != (f.State == trail.Clear) {
				t.Errorf("rung %s: %s", f.Name, f.State)
			}
		}
	})
}

// TestWorldEnds sees that stand-ins end with the demo, even if it is killed.
func TestWorldEnds(t *testing.T) {
	cmd := exec.Command(program, "demo", "--stay", t.TempDir(), "healthy")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for s := bufio.NewScanner(out); s.Scan() && !strings.HasPrefix(s.Text(), "Ctrl-C"); {
	}
	cmd.Process.Kill()
	cmd.Wait()
	for range 50 {
		if run(t, "trace", "tcp://127.20.0.14:8443", "--wait", "1s").status != 0 {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Error("a stand-in lives on")
}
