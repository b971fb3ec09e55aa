package test

import (
	"encoding/json"
	"fmt"
	"image/png"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"uakari/internal/tell"
)

// webThat is a server that is well or not, as the test says.
func webThat(t *testing.T) (url string, broken *atomic.Bool) {
	broken = &atomic.Bool{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if broken.Load() {
			w.WriteHeader(500)
		}
		fmt.Fprint(w, "tides")
	}))
	t.Cleanup(s.Close)
	return s.URL + "/", broken
}

// oneLine is a text without its layout.
func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// TestCase takes one incident from its first failure to the report: a note, a
// change for now that keeps it open, its undoing, and the confirmation.
func TestCase(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(dir, "book.db"))
	url, broken := webThat(t)
	hosts := write(t, filepath.Join(dir, "hosts"), "127.0.0.1 tidebook.varzea.example\n")
	url = strings.Replace(url, "127.0.0.1", "tidebook.varzea.example", 1)
	broken.Store(true)
	must := func(status int, args ...string) result {
		t.Helper()
		r := run(t, args...)
		if r.status != status {
			t.Fatalf("%v: %+v", args, r)
		}
		return r
	}
	if r := must(1, "trace", "--hosts", hosts, "--case", "new", url); !strings.HasSuffix(
		r.stdout,
		"Then: uakari confirm 1\n",
	) {
		t.Errorf("%s", r.stdout)
	}
	must(1, "trace", "--hosts", hosts, url) // kept in the open case without being asked
	must(0, "case", "note", "1", "the desk says: since this morning")
	must(0, "case", "change", "1", "--temporary", "--undo", "take the line out", "put a line into the hosts file")
	must(2, "case", "change", "1", "--temporary", "something")
	must(2, "case", "close", "1")
	if r := must(1, "confirm", "1"); !strings.Contains(oneLine(r.stdout), "for the same reason as before") ||
		!strings.Contains(r.stdout, "Case 1 stays open") {
		t.Errorf("%s", r.stdout)
	}
	broken.Store(false)
	write(t, hosts, "127.0.0.1 tidebook.varzea.example\n127.0.0.2 tidebook.varzea.example\n")
	r := must(1, "confirm", "1")
	for _, want := range []string{"Works again", "stays open: what was changed for now still stands",
		"now has 127.0.0.2 tidebook.varzea.example", "uakari case change 1 --undone"} {
		if !strings.Contains(oneLine(r.stdout), want) {
			t.Errorf("no %q in:\n%s", want, r.stdout)
		}
	}
	var shown struct {
		Entries []struct {
			Number int64
			Kind   string
		}
	}
	if err := json.Unmarshal([]byte(must(0, "case", "show", "1", "--json").stdout), &shown); err != nil {
		t.Fatal(err)
	}
	traces, change := 0, int64(0)
	for _, e := range shown.Entries {
		if e.Kind == "change" {
			change = e.Number
		}
		if e.Kind == "trace" {
			traces++
		}
	}
	if traces != 4 {
		t.Errorf("%d traces are kept, want 4", traces)
	}
	must(0, "case", "change", "1", "--undone", fmt.Sprint(change))
	must(2, "case", "change", "1", "--undone", fmt.Sprint(change))
	if r := must(0, "confirm", "1"); !strings.Contains(r.stdout, "Case 1 is closed, after") {
		t.Errorf("%s", r.stdout)
	}
	if r := must(0, "case", "list"); !strings.Contains(r.stdout, "closed") ||
		!strings.Contains(r.stdout, "answer/error-status") {
		t.Errorf("%s", r.stdout)
	}
	must(0, "trace", "--replay", "1")
	broken.Store(true)
	write(t, hosts, "127.0.0.1 tidebook.varzea.example\n")
	must(1, "trace", "--hosts", hosts, "--case", "new", url)
	broken.Store(false)
	if r := must(0, "case", "similar", "2"); !strings.Contains(r.stdout, "1 other case with answer/error-status.\n") ||
		strings.Contains(r.stdout, "done:") ||
		!strings.Contains(r.stdout, "   1  closed") {
		t.Errorf("what was undone is no mend: %s", r.stdout)
	}
	must(0, "case", "change", "1", "put the second server back")
	if r := must(0, "case", "similar", "2"); !strings.Contains(r.stdout, "  done: put the second server back\n") {
		t.Errorf("%s", r.stdout)
	}
	if r := must(0, "case", "similar", "2", "--json"); strings.Contains(r.stdout, `"set"`) ||
		!strings.Contains(r.stdout, `"put the second server back"`) {
		t.Errorf("%s", r.stdout)
	}
	for _, c := range []struct{ flag, value, want string }{
		{"--cause", "answer/", "   1  closed"}, {"--cause", "rules/", "No case is like that.\n"},
		{"--endpoint", "tidebook", "   2  open"}, {"--endpoint", "ledger", "No case is like that.\n"},
	} {
		if r := must(0, "case", "list", c.flag, c.value); !strings.Contains(r.stdout, c.want) {
			t.Errorf("%s %s: %s", c.flag, c.value, r.stdout)
		}
	}
	must(2, "case", "similar", "77")
	page := filepath.Join(dir, "page.html")
	must(0, "report", "1", "-o", page)
	text := readFile(t, page)
	if strings.Contains(text, "<script") || strings.Contains(text, "http://www") ||
		!strings.Contains(text, "default-src 'none'") ||
		!strings.Contains(text, "It works again, confirmed") {
		t.Errorf("the page:\n%s", text)
	}
	must(0, "report", "1", "-o", filepath.Join(dir, "page.md"))
	var report tell.Report
	must(0, "report", "1", "-o", filepath.Join(dir, "page.json"))
	if err := json.Unmarshal([]byte(readFile(t, filepath.Join(dir, "page.json"))), &report); err != nil ||
		len(report.Ladder) != 8 ||
		len(report.Changes) != 2 {
		t.Errorf("%v %+v", err, report)
	}
	validate(t, "report", []byte(readFile(t, filepath.Join(dir, "page.json"))))
	validate(t, "case", []byte(must(0, "case", "show", "1", "--json").stdout))
	must(2, "report", "1", "-o", filepath.Join(dir, "page.pdf"))
	must(2, "case", "show", "77")
	lines := filepath.Join(dir, "cases.jsonl")
	must(0, "case", "export", "-o", lines)
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(dir, "other.db"))
	if r := must(0, "case", "import", lines); !strings.Contains(r.stdout, "case 1:") {
		t.Errorf("%s", r.stdout)
	}
	if r := must(0, "case", "import", lines); !strings.Contains(r.stdout, "here already") {
		t.Errorf("%s", r.stdout)
	}
	if info, err := os.Stat(filepath.Join(dir, "other.db")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"note", "1", "kept"}, `"kept"`},
		{[]string{"change", "1", "a second look"}, `"a second look"`},
		{[]string{"close", "1"}, `"closed"`},
		{[]string{"remove", "1"}, `"a second look"`},
	} {
		r := must(0, append(append([]string{"case"}, c.args...), "--json")...)
		validate(t, "case", []byte(r.stdout))
		if !strings.Contains(r.stdout, c.want) {
			t.Errorf("%v: %s", c.args, r.stdout)
		}
	}
	if r := must(0, "case", "import", "--json", lines); !strings.Contains(r.stdout, `"foreign": true`) {
		t.Errorf("%s", r.stdout)
	}
	must(2, "case", "import", write(t, filepath.Join(dir, "bad.jsonl"),
		"{\"format\":\"uakari.casebook/1\"}\nnonsense\n"))
}

// TestCaseHostile shows what comes from outside on a page without letting it
// be more than text.
func TestCaseHostile(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(dir, "book.db"))
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Server", "<script>alert(1)</script>")
		w.WriteHeader(502)
		fmt.Fprint(w, "<img src=x onerror=alert(1)>\x1b[2J")
	}))
	defer s.Close()
	run(t, "trace", "--case", "new", s.URL+"/")
	run(t, "case", "note", "1", "<b onclick=x>\x1b[31m")
	page := filepath.Join(dir, "page.html")
	if r := run(t, "report", "1", "-o", page); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	text := readFile(t, page)
	for _, bad := range []string{"<script>", "<img", "<b ", "\x1b"} {
		if strings.Contains(text, bad) {
			t.Errorf("the page has %q", bad)
		}
	}
}

// TestCaseKilled kills the program at moments of its own, and loses no trace
// that it said was kept.
func TestCaseKilled(t *testing.T) {
	dir := t.TempDir()
	book := filepath.Join(dir, "book.db")
	t.Setenv("UAKARI_CASEBOOK", book)
	url, broken := webThat(t)
	broken.Store(true)
	if r := run(t, "trace", "--case", "new", url); r.status != 1 {
		t.Fatalf("%+v", r)
	}
	kept := 1
	for i := range 25 {
		cmd := exec.Command(program, "trace", "--case", "1", url)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(3*i) * time.Millisecond)
		cmd.Process.Signal(syscall.SIGKILL)
		cmd.Wait()
		if cmd.ProcessState.ExitCode() == 1 {
			kept++
		}
	}
	r := run(t, "case", "show", "1", "--json")
	if n := strings.Count(r.stdout, `"kind": "trace"`); r.status != 0 || n < kept {
		t.Errorf("%d traces are left of %d that were kept: %s", n, kept, r.stderr)
	}
	// Two at once.
	var all []*exec.Cmd
	for range 4 {
		cmd := exec.Command(program, "trace", "--case", "1", url)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		all = append(all, cmd)
	}
	for _, cmd := range all {
		cmd.Wait()
		if cmd.ProcessState.ExitCode() != 1 {
			t.Errorf("one of several at once: %v", cmd.ProcessState)
		}
	}
}

// TestWatch catches a fault that comes and goes.
func TestWatch(t *testing.T) {
	url, broken := webThat(t)
	metrics := filepath.Join(t.TempDir(), "uakari.prom")
	run(t, "watch", url, "--every", "1s", "--until", "clear", "--metrics", metrics)
	text, err := os.ReadFile(metrics)
	for _, want := range []string{"uakari_up{endpoint=", "} 1\n", `uakari_step_seconds{endpoint="` + url +
		`",step="connect"} `, `rung="rules"} 0`, "uakari_tries_total{", "\n# EOF\n"} {
		if err != nil || !strings.Contains(string(text), want) {
			t.Errorf("%v: no %q in\n%s", err, want, text)
		}
	}
	go func() {
		time.Sleep(1500 * time.Millisecond)
		broken.Store(true)
	}()
	page := filepath.Join(t.TempDir(), "watch.html")
	r := run(t, "watch", url, "--every", "1s", "--until", "fault", "--report", page)
	if text := readFile(t, page); strings.Count(text, `class="late" d="M`) != 1 ||
		!strings.Contains(text, "it fails: ") || strings.Contains(text, "<script") {
		t.Errorf("the page of a watch: %s", text)
	}
	if r.status != 1 || !strings.Contains(r.stdout, "FAULT") || !strings.Contains(r.stdout, "1 failed") ||
		strings.Count(r.stdout, "reached 127.0.0.1") != 1 {
		t.Errorf("%+v", r)
	}
	broken.Store(false)
	// Longer than one run may make connections.
	if r := run(t, "watch", url, "--every", "1s", "--for", "10s"); r.status != 0 ||
		!strings.Contains(r.stdout, "10 tries, 0 failed") {
		t.Errorf("%+v", r)
	}
	if r := run(t, "watch", url, "--every", "1ms"); r.status != 2 {
		t.Errorf("%+v", r)
	}
	cmd := exec.Command(program, "watch", url, "--every", "1s")
	var out strings.Builder
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(1200 * time.Millisecond)
	cmd.Process.Signal(os.Interrupt)
	cmd.Wait()
	if cmd.ProcessState.ExitCode() != 130 || !strings.Contains(out.String(), "0 failed") {
		t.Errorf("%v: %s", cmd.ProcessState, out.String())
	}
}

// TestCaseFullDisk keeps a trace where there is no room for it: that is said,
// the trace is told all the same, and what was kept before stays.
func TestCaseFullDisk(t *testing.T) {
	if os.Getuid() != 0 {
		missing(t, "needs root: a small file system")
	}
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=400k", "tmpfs", dir).CombinedOutput(); err != nil {
		missing(t, fmt.Sprintf("needs a small file system: %s", out))
	}
	defer exec.Command("umount", dir).Run()
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(dir, "book.db"))
	url, broken := webThat(t)
	broken.Store(true)
	if r := run(t, "trace", "--case", "new", url); r.status != 1 {
		t.Fatalf("%+v", r)
	}
	filler := filepath.Join(dir, "filler")
	if f, err := os.Create(filler); err != nil {
		t.Fatal(err)
	} else {
		for err == nil {
			_, err = f.Write(make([]byte, 4096))
		}
		f.Close()
	}
	r := run(t, "trace", "--case", "1", url)
	if r.status != 2 || !strings.Contains(r.stderr, "casebook "+dir) || !strings.Contains(r.stderr, "full") ||
		!strings.Contains(r.stdout, "answer/error-status") {
		t.Fatalf("%+v", r)
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	if shown := run(t, "case", "show", "1", "--json"); strings.Count(shown.stdout, `"kind": "trace"`) != 1 {
		t.Errorf("what was kept: %+v", shown)
	}
	if r := run(t, "trace", "--case", "1", url); r.status != 1 {
		t.Errorf("with room again: %+v", r)
	}
}

// TestReportPage draws a report in a browser: light, dark, and on a phone.
func TestReportPage(t *testing.T) {
	browser := needs(t, "chromium", "/usr/bin/chromium")[0]
	dir := t.TempDir()
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(dir, "book.db"))
	url, broken := webThat(t)
	broken.Store(true)
	run(t, "trace", "--case", "new", url)
	page := filepath.Join(dir, "page.html")
	if r := run(t, "report", "1", "-o", page); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	pdf := filepath.Join(dir, "page.pdf")
	print := exec.Command(browser, "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run",
		"--user-data-dir="+filepath.Join(dir, "profile-print"),
		"--no-pdf-header-footer", "--print-to-pdf="+pdf, "file://"+page)
	if out, err := print.CombinedOutput(); err != nil {
		t.Fatalf("printed: %v: %s", err, out)
	}
	if pages := len(regexp.MustCompile(`/Type /Page\b`).FindAllString(readFile(t, pdf), -1)); pages < 1 || pages > 2 {
		t.Errorf("printed, it has %d pages; expected one or two", pages)
	}
	for name, args := range map[string][]string{"light": {"--window-size=1280,800"}, "dark": {"--window-size=1280,800",
		"--force-dark-mode", "--blink-settings=preferredColorScheme=0"}, "phone": {"--window-size=420,800"}} {
		shot := filepath.Join(dir, name+".png")
		cmd := exec.Command(
			browser,
			append(
				[]string{
					"--headless",
					"--no-sandbox",
					"--disable-gpu",
					"--no-first-run",
					"--hide-scrollbars",
					"--user-data-dir=" + filepath.Join(dir, "profile-"+name),
					"--enable-logging=stderr",
					"--screenshot=" + shot,
				},
				append(args, "file://"+page)...)...)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v: %s", name, err, out)
		}
		for line := range strings.Lines(string(out)) {
			if strings.Contains(line, "CONSOLE") {
				t.Errorf("%s: the page complains: %s", name, line)
			}
		}
		f, err := os.Open(shot)
		if err != nil {
			t.Fatal(err)
		}
		picture, err := png.Decode(f)
		f.Close()
		if err != nil {
			t.Fatal(err)
		}
		r, g, b, _ := picture.At(2, 2).RGBA()
		if dark := (r+g+b)/3 < 0x6000; dark != (name == "dark") {
			t.Errorf("%s: its paper is %04x %04x %04x", name, r, g, b)
		}
		colours := map[[3]uint32]bool{}
		for x := 0; x < picture.Bounds().Dx(); x += 3 {
			for y := 0; y < 300; y += 3 {
				r, g, b, _ := picture.At(x, y).RGBA()
				colours[[3]uint32{r, g, b}] = true
			}
		}
		if len(colours) < 20 {
			t.Errorf("%s: %d colours: nothing is drawn", name, len(colours))
		}
	}
}
