package test

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"uakari/internal/fact"
)

// strangerID is an account that is neither root nor the user who runs the program.
const strangerID = 65534

// TestWhatSteersIsOurs refuses every kind of file that steers the program where another
// account owns it or may write it, and says why.
func TestWhatSteersIsOurs(t *testing.T) {
	if os.Getuid() != 0 {
		missing(t, "needs root, for files of another account")
	}
	dir := t.TempDir()
	served := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, _, asked := r.BasicAuth(); asked {
			t.Error("a secret was sent")
		}
		w.Header().Set("WWW-Authenticate", "Basic realm=ebb")
		w.WriteHeader(http.StatusUnauthorized)
	}))
	defer served.Close()
	url := served.URL + "/"
	secret := write(t, filepath.Join(dir, "secret"), "CANARY-5d1e")
	folder := filepath.Join(dir, "folder")
	if err := os.Mkdir(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(folder, "ebb.yaml"), "format: uakari.card/1\nname: ebb\nendpoint: "+url+"\n")
	files := map[string]struct {
		text string
		args []string
		env  string
	}{
		"configuration": {"format: uakari.config/1\nflags: {user: ana, secret: \"file:" + secret + "\", " +
			"in-the-clear: true}\n",
			[]string{"trace", url}, "UAKARI_CONFIG"},
		"card": {"format: uakari.card/1\nname: ebb\nendpoint: " + url + "\n",
			[]string{"trace", "--card", "FILE"}, ""},
		"sheet": {"format: uakari.sheet/1\nname: ebb\n", []string{"trace", "--sheet", "FILE", url}, ""},
		"program": {"format: uakari.program/1\nname: ebbd\nabout: ebb\n",
			[]string{"trace", "--program", "FILE", url}, ""},
		"plan": {"format: uakari.plan/1\nclients: [{here: true}]\nendpoints: [\"" + url + "\"]\n",
			[]string{"sweep", "FILE"}, ""},
	}
	for kind, c := range files {
		for _, how := range []string{"of another account", "that others may write"} {
			path := write(t, filepath.Join(dir, kind+".yaml"), c.text)
			owner, mode := strangerID, os.FileMode(0o600)
			if how == "that others may write" {
				owner, mode = 0, 0o666
			}
			if err := os.Chown(path, owner, owner); err != nil {
				t.Fatal(err)
			}
			if err := os.Chmod(path, mode); err != nil {
				t.Fatal(err)
			}
			args := slices.Clone(c.args)
			for i, a := range args {
				if a == "FILE" {
					args[i] = path
				}
			}
			words := append([]string{program}, args...)
			if c.env != "" {
				words = append([]string{"env", c.env + "=" + path}, words...)
			}
			r := runWords(t, words)
			if r.status != 2 || !strings.Contains(r.stderr, "must belong to root or to the user who runs it") ||
				!strings.Contains(r.stderr, path) || strings.Contains(r.stdout+r.stderr, "CANARY") {
				t.Errorf("a %s %s: %+v", kind, how, r)
			}
		}
	}
	// A folder of a team that another account fills.
	if err := os.Chown(filepath.Join(folder, "ebb.yaml"), strangerID, strangerID); err != nil {
		t.Fatal(err)
	}
	config := write(t, filepath.Join(dir, "own.yaml"), "format: uakari.config/1\ncards: "+folder+"\n")
	r := runWords(t, []string{"env", "UAKARI_CONFIG=" + config, program, "trace", "--card", "ebb"})
	if r.status != 2 || !strings.Contains(r.stderr, "must belong to root") {
		t.Errorf("a card of a shared folder: %+v", r)
	}
}

// TestOutputFollowsNoForeignLink writes where another account put a link in a folder that
// all may write to: what the link leads to stays as it was.
func TestOutputFollowsNoForeignLink(t *testing.T) {
	if os.Getuid() != 0 {
		missing(t, "needs root, for links of another account")
	}
	dir, victims := t.TempDir(), t.TempDir()
	if err := os.Chmod(dir, 0o1777); err != nil {
		t.Fatal(err)
	}
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(victims, "book.db"))
	closed := fmt.Sprintf("tcp://127.0.0.1:%d", freePort(t))
	plan := write(t, filepath.Join(victims, "plan.yaml"),
		"format: uakari.plan/1\nclients: [{here: true}]\nendpoints: [\""+closed+"\"]\n")
	if r := run(t, "trace", "--case", "new", closed); r.status != 1 {
		t.Fatalf("%+v", r)
	}
	for name, args := range map[string][]string{
		"report":       {"trace", closed, "-o"},
		"facts":        {"trace", closed, "--facts"},
		"record":       {"record", "-o"},
		"sweep":        {"sweep", plan, "-o"},
		"resumed rows": {"sweep", plan, "--resume"},
		"export":       {"case", "export", "1", "-o"},
		"sheet":        {"sheet", "new", "-o"},
	} {
		victim := write(t, filepath.Join(victims, name), "keep")
		link := filepath.Join(dir, name)
		if err := os.Symlink(victim, link); err != nil {
			t.Fatal(err)
		}
		if err := os.Lchown(link, strangerID, strangerID); err != nil {
			t.Fatal(err)
		}
		r := run(t, append(args, link)...)
		if readFile(t, victim) != "keep" || r.status != 2 {
			t.Errorf("%s: status %d, %q behind the link: %s", name, r.status, readFile(t, victim), r.stderr)
		}
	}
}

// TestOneTryPerServer has six paths of one server behind one account: it is presented once.
func TestOneTryPerServer(t *testing.T) {
	var tries atomic.Int32
	served := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, _, asked := r.BasicAuth(); asked {
			tries.Add(1)
		}
		w.Header().Set("WWW-Authenticate", "Basic realm=ebb")
		w.WriteHeader(http.StatusUnauthorized)
	}))
	defer served.Close()
	secret := write(t, filepath.Join(t.TempDir(), "secret"), "gannet-21\n")
	var inputs strings.Builder
	for i := range 6 {
		fmt.Fprintf(&inputs, "%s/tides/%d\n", served.URL, i)
	}
	list := write(t, filepath.Join(t.TempDir(), "list"), inputs.String())
	r := runWords(t, []string{"sh", "-c", program + " trace --in-the-clear --user gauge --secret file:" + secret +
		" - < " + list})
	if r.status != 1 || tries.Load() != 1 {
		t.Errorf("%d tries, status %d: %s", tries.Load(), r.status, r.stderr)
	}
}

// TestDeadlineTellsWhatIsKnown is a host that hangs behind --at, and a record whose time is
// over: the client's side is told, and the record is written and says that it is incomplete.
func TestDeadlineTellsWhatIsKnown(t *testing.T) {
	silent := listen(t, "127.0.0.1:0", nil, func(c net.Conn, _ int32) { io.Copy(io.Discard, c) })
	closed := fmt.Sprintf("tcp://127.0.0.1:%d", freePort(t))
	r := run(t, "trace", "--deadline", "6s", "--at", "root@"+silent.addr, "--identity",
		orderKeyOf(t), closed)
	if r.status != 1 && r.status != 3 || !strings.Contains(r.stdout, silent.addr) || r.stdout == "" {
		t.Errorf("a host that hangs: %+v", r)
	}
	file := filepath.Join(t.TempDir(), "record.json")
	r = run(t, "record", "--deadline", "1s", "--for", "http://"+silent.addr+"/", "-o", file)
	var kept fact.HostRecord
	if err := json.Unmarshal([]byte(readFile(t, file)), &kept); err != nil {
		t.Fatal(err)
	}
	if r.status != 3 || kept.Incomplete == "" || len(kept.Facts) < 3 {
		t.Errorf("a record past its deadline: status %d, incomplete %q, %d facts: %s", r.status, kept.Incomplete,
			len(kept.Facts), r.stderr)
	}
}

// mostPeak is how much memory a run takes at most while it reads hostile input, in MiB: a plain
// trace takes some 45, of which most is the program itself.
const mostPeak = 96

// TestForeignFilesAreBounded reads files of others that never end, that never begin, or that
// are no files: one line says so, in little time and memory.
func TestForeignFilesAreBounded(t *testing.T) {
	dir := t.TempDir()
	pipe := filepath.Join(dir, "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	huge := filepath.Join(dir, "huge")
	f, err := os.Create(huge)
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Truncate(4 << 30); err != nil {
		t.Fatal(err)
	}
	f.Close()
	closed := fmt.Sprintf("tcp://127.0.0.1:%d", freePort(t))
	for _, path := range []string{"/dev/zero", "/dev/urandom", huge, pipe, dir} {
		for _, args := range [][]string{
			{"trace", "--record", "server=" + path, closed}, {"trace", "--since", path, closed},
			{"trace", "--replay", path},
			{"trace", "--card", path}, {"trace", "--sheet", path, closed}, {"trace", "--program", path, closed},
			{"trace", "--trust", path, "https://127.0.0.1:1/"}, {"sweep", path}, {"differ", path, path},
			{"confirm", path}, {"case", "import", path}, {"rules", "--tables", path, "--from", "10.20.7.31", "--to",
				"10.20.0.14:443"},
		} {
			if args[0] == "trace" {
				args = append(args, "--deadline", "2s")
			} else if path == pipe {
				continue // it may be what another program still writes: it is read for a minute
			}
			began := time.Now()
			cmd := exec.Command(program, args...)
			out, _ := cmd.CombinedOutput()
			peak := cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss >> 10
			if took := time.Since(began); cmd.ProcessState.ExitCode() == 0 || took > 6*time.Second ||
				peak > mostPeak || strings.Contains(string(out), "panic") {
				t.Errorf("%v: status %d in %s, %d MiB: %.300s", args, cmd.ProcessState.ExitCode(), took, peak, out)
			}
		}
	}
}

// TestResumedRowsAreForeign resumes a sweep whose kept rows were torn, and changed by
// somebody: it goes on, shows no control character, and its page runs nothing.
func TestResumedRowsAreForeign(t *testing.T) {
	dir := t.TempDir()
	var endpoints []string
	for range 3 {
		endpoints = append(endpoints, fmt.Sprintf("%q", fmt.Sprintf("tcp://127.0.0.1:%d", freePort(t))))
	}
	plan := write(t, filepath.Join(dir, "plan.yaml"),
		"format: uakari.plan/1\nname: ebb\nclients: [{here: true}]\nendpoints: ["+strings.Join(endpoints, ", ")+"]\n")
	rows := filepath.Join(dir, "rows")
	if r := run(t, "sweep", "--resume", rows, plan); r.status != 1 {
		t.Fatalf("%+v", r)
	}
	text := readFile(t, rows)
	lines := strings.SplitAfter(strings.TrimSpace(text), "\n")
	const foreign = `\u001b[2J<script>alert(1)</script><img src=x onerror=alert(1)>`
	changed := strings.Replace(text, `"summary":"`, `"summary":"`+foreign, 1)
	for name, kept := range map[string]string{
		"torn":    text[:len(text)-20],
		"changed": changed,
		"both":    changed + lines[len(lines)-1][:30],
	} {
		path := write(t, filepath.Join(dir, name), kept)
		for _, out := range []string{"text", "html"} {
			r := run(t, "sweep", "--out", out, "--resume", path, plan)
			if r.status != 1 || strings.Contains(r.stdout+r.stderr, "\x1b") ||
				out == "html" && (strings.Contains(r.stdout, "<script") || strings.Contains(r.stdout, "<img")) {
				t.Errorf("%s, %s: status %d: %.600s %s", name, out, r.status, r.stdout, r.stderr)
			}
		}
		r := run(t, "sweep", "--json", "--resume", path, plan)
		if n := strings.Count(r.stdout, `"endpoint":"tcp://`); n < 3 {
			t.Errorf("%s: %d rows of 3: %s", name, n, r.stdout)
		}
	}
	// A full disk is an error, never silence.
	if r := run(t, "sweep", "-o", "/dev/full", plan); r.status != 2 || !strings.Contains(r.stderr, "/dev/full") {
		t.Errorf("a full device: %+v", r)
	}
}
