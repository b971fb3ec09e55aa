package test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
	"unicode"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// heardAll is a server of a protocol that keeps all that it hears.
type heardAll struct {
	addr  string
	conns atomic.Int32
	mu    sync.Mutex // guards text
	text  bytes.Buffer
}

func (h *heardAll) Write(b []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.text.Write(b)
}

// secrets is which forms of the canary it heard.
func (h *heardAll) secrets() (list []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, form := range forms() {
		if strings.Contains(h.text.String(), form) {
			list = append(list, form)
		}
	}
	return list
}

// listen answers each connection by handle; what it reads is kept.
func listen(t *testing.T, at string, config func(n int32) *tls.Config, handle func(c net.Conn, n int32)) *heardAll {
	t.Helper()
	l, err := net.Listen("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	h := &heardAll{addr: l.Addr().String()}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			n := h.conns.Add(1)
			go func() {
				defer c.Close()
				c.SetDeadline(time.Now().Add(20 * time.Second))
				if config != nil {
					secured := tls.Server(c, config(n))
					if secured.Handshake() != nil {
						return
					}
					c = secured
				}
				handle(heardConn{c, h}, n)
			}()
		}
	}()
	return h
}

type heardConn struct {
	net.Conn
	by *heardAll
}

func (c heardConn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	c.by.Write(b[:n])
	return n, err
}

// asking answers every line by what say makes of it.
func asking(greeting string, say func(line string) string) func(net.Conn, int32) {
	return func(c net.Conn, _ int32) {
		io.WriteString(c, greeting)
		for lines := bufio.NewScanner(c); lines.Scan(); {
			io.WriteString(c, say(lines.Text()))
		}
	}
}

// basic is a web server that lets an account in by its secret.
func basic(c net.Conn, _ int32) {
	r, err := http.ReadRequest(bufio.NewReader(c))
	if err != nil {
		return
	}
	if _, _, ok := r.BasicAuth(); ok {
		io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n")
		return
	}
	io.WriteString(c, "HTTP/1.1 401 No\r\nWWW-Authenticate: Basic realm=x\r\nContent-Length: 0\r\n\r\n")
}

func imap(line string) string {
	tag, rest, _ := strings.Cut(line, " ")
	switch word, _, _ := strings.Cut(rest, " "); strings.ToUpper(word) {
	case "CAPABILITY":
		return "* CAPABILITY IMAP4rev2 AUTH=PLAIN\r\n" + tag + " OK done\r\n"
	case "STARTTLS":
		return tag + " BAD no\r\n"
	}
	return tag + " OK in\r\n"
}

// serving makes certificates for 127.0.0.1: one that the client is told to
// trust, and one that nobody vouches for.
func serving(t *testing.T) (trusted, stranger *tls.Config, root string) {
	t.Helper()
	m := newMaker(t)
	config := func(parent *x509.Certificate) *tls.Config {
		c := &x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"},
			IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
		by := m.key
		if parent == nil {
			by = nil
		}
		cert, key := m.sign(c, parent, by)
		return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{cert.Raw}, PrivateKey: key}}}
	}
	return config(m.cert), config(nil), write(t, filepath.Join(m.dir, "root.pem"), pemOf(m.cert))
}

// TestSecretGate sees that a secret goes only over the very connection whose
// server proved who it is, and where none does, only if that was asked for.
func TestSecretGate(t *testing.T) {
	t.Setenv("TIDE_SECRET", canary)
	t.Setenv("HOME", t.TempDir())
	trusted, stranger, root := serving(t)
	always := func(c *tls.Config) func(int32) *tls.Config { return func(int32) *tls.Config { return c } }
	sessions := asking("* OK ready\r\n", imap)
	redis := func(c net.Conn, _ int32) {
		for b := make([]byte, 4096); ; {
			n, err := c.Read(b)
			if err != nil {
				return
			}
			if bytes.Contains(b[:n], []byte("AUTH")) {
				io.WriteString(c, "+OK\r\n")
			} else {
				io.WriteString(c, "-NOAUTH Authentication required.\r\n")
			}
		}
	}
	directory := func(c net.Conn, _ int32) {
		for b := make([]byte, 4096); ; {
			n, err := c.Read(b)
			if err != nil {
				return
			}
			if bytes.Contains(b[:n], []byte("objectClass")) {
				io.WriteString(c, "\x30\x0c\x02\x01\x01\x65\x07\x0a\x01\x00\x04\x00\x04\x00")
			} else {
				io.WriteString(c, "\x30\x0c\x02\x01\x02\x61\x07\x0a\x01\x00\x04\x00\x04\x00")
			}
		}
	}
	for _, c := range []struct {
		name, scheme string
		config       func(int32) *tls.Config
		handle       func(net.Conn, int32)
		args         []string
		status       int
		shown        bool
		login        trail.State
	}{
		{"trusted", "https", always(trusted), basic, nil, 0, true, trail.Clear},
		{"a stranger", "https", always(stranger), basic, nil, 1, false, trail.Unseen},
		{"a stranger, in the clear", "https", always(stranger), basic, []string{"--in-the-clear"}, 1, false,
			trail.Unseen},
		{"another one for the second connection", "https", func(n int32) *tls.Config {
			if n == 1 {
				return trusted
			}
			return stranger
		}, basic, nil, 3, false, trail.Unseen},
		{"mail, a stranger", "imaps", always(stranger), sessions, nil, 1, false, trail.Unseen},
		{"mail, trusted", "imaps", always(trusted), sessions, nil, 0, true, trail.Clear},
		{"a web server without encryption", "http", nil, basic, nil, 3, false, trail.Unseen},
		{"the same, in the clear", "http", nil, basic, []string{"--in-the-clear"}, 0, true, trail.Clear},
		{"mail without encryption", "imap+starttls", nil, sessions, nil, 1, false, trail.Unseen},
		{"the same, in the clear", "imap+starttls", nil, sessions, []string{"--in-the-clear"}, 1, true, trail.Clear},
		// clients of it want TLS
		{"a directory without encryption", "ldap", nil, directory, nil, 3, false, trail.Unseen},
		{"the same, in the clear", "ldap", nil, directory, []string{"--in-the-clear"}, 0, true, trail.Clear},
		{"a store without encryption", "redis", nil, redis, nil, 3, false, trail.Unseen},
		{"the same, in the clear", "redis", nil, redis, []string{"--in-the-clear"}, 0, true, trail.Clear},
	} {
		h := listen(t, "127.0.0.1:0", c.config, c.handle)
		args := append(
			[]string{"trace", "--json", "--trust", root, "--user", "gauge", "--secret", "env:TIDE_SECRET",
				"--deadline", "10s"},
			c.args...)
		r := run(t, append(args, c.scheme+"://"+h.addr)...)
		judged := readTrail(t, r.stdout+r.stderr)
		if shown := len(h.secrets()) > 0; shown != c.shown {
			t.Errorf("%s, %s: shown %v: %s", c.scheme, c.name, shown, h.text.String())
		}
		login := rung(judged, trail.Login)
		if r.status != c.status || login.State != c.login {
			t.Errorf(
				"%s, %s: status %d, login %s (%s)\n%s",
				c.scheme,
				c.name,
				r.status,
				login.State,
				login.Summary,
				dump(judged),
			)
		}
		if c.status == 3 && c.config == nil && login.Needs != "--in-the-clear" {
			t.Errorf("%s, %s: it needs %q", c.scheme, c.name, login.Needs)
		}
	}
}

// TestDataMovesNoSecret is what a record, a redirect, a kept run or a case says:
// none of it shows an account to anybody, or makes this program speak to a port
// of another service.
func TestDataMovesNoSecret(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("TIDE_SECRET", canary)
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(home, "book.db"))
	trap := listen(t, "127.0.0.1:0", nil, basic)
	_, port, _ := net.SplitHostPort(trap.addr)

	// A record of a server that says it has another address.
	record := filepath.Join(home, "server.json")
	if r := run(t, "record", "--for", "http://127.0.0.2:"+port+"/", "-o", record); r.status != 0 {
		t.Fatal(r.stderr)
	}
	hosts := write(t, filepath.Join(home, "hosts"), "127.0.0.9 tidebook.varzea.example\n")
	run(
		t,
		"trace",
		"--hosts",
		hosts,
		"--record",
		"server="+record,
		"--in-the-clear",
		"--user",
		"gauge",
		"--secret",
		"env:TIDE_SECRET",
		"http://tidebook.varzea.example:"+port+"/",
	)
	if got := trap.secrets(); len(got) > 0 {
		t.Errorf("a record moved the secret: %q", got)
	}

	// Redirects to another protocol, and to another port of another host.
	for _, to := range []string{"redis://" + trap.addr + "/", "ssh://" + trap.addr,
		"http://127.0.0.7:" + port + "/x?token=1"} {
		before := trap.conns.Load()
		web := listen(t, "127.0.0.1:0", nil, func(c net.Conn, _ int32) {
			c.Read(make([]byte, 4096))
			fmt.Fprintf(c, "HTTP/1.1 302 Found\r\nLocation: %s\r\nContent-Length: 0\r\n\r\n", to)
		})
		run(t, "trace", "--in-the-clear", "--user", "gauge", "--secret", "env:TIDE_SECRET", "http://"+web.addr+"/")
		if n := trap.conns.Load() - before; n > 0 {
			t.Errorf("%s: followed by %d connections", to, n)
		}
	}

	// A kept run that asks for more than its endpoint.
	secret := write(t, filepath.Join(home, "secret"), canary)
	kept := filepath.Join(home, "facts.json")
	run(t, "trace", "--facts", kept, "http://"+trap.addr+"/")
	text, err := os.ReadFile(kept)
	if err != nil {
		t.Fatal(err)
	}
	set, err := fact.DecodeSet(kept, text)
	if err != nil {
		t.Fatal(err)
	}
	set.Ask.Account = "gauge"
	set.Ask.Command = "uakari trace --in-the-clear --user gauge --secret file:" + secret +
		" --at root@127.0.0.1:1 --card /etc/shadow http://" + trap.addr + "/"
	set.Ask.Card = &fact.Card{
		Format:            "uakari.card/1",
		Name:              "x",
		Log:               secret,
		AllowList:         secret,
		ClientCertificate: secret,
		Settings: []fact.SettingRule{
			{Name: "x", Is: "port", Client: &fact.SettingAt{File: secret, Format: "env", Key: "port"}},
		},
	}
	if text, err = json.Marshal(set); err != nil {
		t.Fatal(err)
	}
	write(t, kept, string(text))
	r := run(t, "confirm", "--times", "1", kept)
	if len(trap.secrets()) > 0 || strings.Contains(r.stderr, "root@127.0.0.1") ||
		!strings.Contains(r.stderr, "only its endpoint is taken over") {
		t.Errorf("a kept run is obeyed: %s%s", r.stdout, r.stderr)
	}
	if r := run(t, "trace", "--replay", kept); strings.Contains(r.stdout, "--secret") ||
		!strings.Contains(r.stdout+r.stderr, "uakari confirm ") {
		t.Errorf("a kept run's command is offered: %s", r.stdout)
	}

	// The same as a case that was imported.
	cases := filepath.Join(home, "cases.jsonl")
	line, err := json.Marshal(
		map[string]any{"id": 1, "uid": "u", "title": "t", "endpoint": "http://" + trap.addr + "/",
			"opened":  time.Now(),
			"entries": []any{map[string]any{"number": 1, "at": time.Now(), "kind": "trace", "text": "x", "set": set}}},
	)
	if err != nil {
		t.Fatal(err)
	}
	write(t, cases, "{\"format\":\"uakari.casebook/1\"}\n"+string(line)+"\n")
	imported := run(t, "case", "import", cases)
	if imported.status != 0 {
		t.Fatal(imported.stderr)
	}
	number := strings.TrimSuffix(strings.Fields(imported.stdout)[1], ":")
	for range 2 { // it stays foreign, whatever is added
		if r := run(t, "confirm", "--times", "1", number); len(trap.secrets()) > 0 ||
			!strings.Contains(r.stderr, "only its endpoint is taken over") {
			t.Errorf("an imported case is obeyed: %s%s", r.stdout, r.stderr)
		}
	}
	if r := run(t, "case", "remove", number); r.status != 0 {
		t.Errorf("%s", r.stderr)
	}
	if r := run(t, "case", "show", number); r.status != 2 {
		t.Errorf("removed, and shown: %s", r.stdout)
	}
}

// TestQuerySecrets sees that a secret in an endpoint goes where a password
// would, and stands in nothing that is told.
func TestQuerySecrets(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("HOME", dir)
	trusted, _, root := serving(t)
	web := func(c net.Conn, _ int32) {
		r, err := http.ReadRequest(bufio.NewReader(c))
		if err == nil {
			fmt.Fprintf(c, "HTTP/1.1 200 OK\r\nServer: %s\r\nContent-Length: 0\r\n\r\n", r.URL.Query().Get("token"))
		}
	}
	open, closed := listen(
		t,
		"127.0.0.1:0",
		nil,
		web,
	), listen(
		t,
		"127.0.0.1:0",
		func(int32) *tls.Config { return trusted },
		web,
	)
	facts := filepath.Join(dir, "facts.json")
	var said string
	for _, c := range []struct {
		url    string
		status int
		more   []string
	}{{"http://" + open.addr, 3, nil}, {"https://" + closed.addr, 0, nil},
		{"http://" + open.addr, 0, []string{"--in-the-clear"}}} {
		for _, out := range []string{"text", "json"} {
			r := run(
				t,
				append(
					[]string{"trace", "--out", out, "--trust", root, "--facts", facts,
						c.url + "/x?n=1&token=sluice-7-gate"},
					c.more...)...)
			if r.status != c.status {
				t.Errorf("%s: status %d\n%s%s", c.url, r.status, r.stdout, r.stderr)
			}
			said += r.stdout + r.stderr + readFile(t, facts)
		}
		if shown := strings.Contains(open.text.String(), "sluice-7-gate"); shown != (c.more != nil) {
			t.Errorf("%s: shown %v", c.url, shown)
		}
	}
	if !strings.Contains(closed.text.String(), "token=sluice-7-gate") {
		t.Error("it is not asked with")
	}
	if strings.Contains(said, "sluice-7") {
		t.Error("it is told")
	}
}

// TestEndsInTime is commands that wait for what never comes: they end within a
// second of their deadline, and of Ctrl-C, and say what they know.
func TestEndsInTime(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("HOME", dir)
	pipe := filepath.Join(dir, "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	silent := listen(t, "127.0.0.1:0", nil, func(c net.Conn, _ int32) { io.Copy(io.Discard, c) })
	agent, err := net.Listen("unix", filepath.Join(shortDir(t), "agent"))
	if err != nil {
		t.Fatal(err)
	}
	defer agent.Close()
	t.Setenv("SSH_AUTH_SOCK", agent.Addr().String())
	mute, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer mute.Close()
	trusted, _, _ := serving(t)
	stalls := listen(
		t,
		"127.0.0.1:0",
		func(int32) *tls.Config { return trusted },
		func(c net.Conn, _ int32) { io.Copy(io.Discard, c) },
	)
	// What a process takes at most counts from before its exec (getrusage(2)): this
	// one's own peak must not be seen in it.
	debug.FreeOSMemory()
	if err := os.WriteFile("/proc/self/clear_refs", []byte("5"), 0); err != nil {
		t.Log(err)
	}
	bomb := "a0: &a0 [x,x,x,x,x,x,x,x,x,x]\n"
	for i := 1; i < 12; i++ {
		bomb += fmt.Sprintf("a%[1]d: &a%[1]d [*a%[2]d,*a%[2]d,*a%[2]d,*a%[2]d,*a%[2]d,*a%[2]d,*a%[2]d,*a%[2]d]\n", i,
			i-1)
	}
	laughing, deep := write(
		t,
		filepath.Join(dir, "bomb.yaml"),
		bomb,
	), write(
		t,
		filepath.Join(dir, "deep.yaml"),
		"a: "+strings.Repeat("[", 1<<19),
	)
	jumps := "*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -j C0\n"
	for i := range 40 {
		jumps = strings.Replace(jumps, "-A INPUT", fmt.Sprintf(":C%d - [0:0]\n-A INPUT", i), 1)
		if i > 0 {
			jumps += strings.Repeat(fmt.Sprintf("-A C%d -j C%d\n", i-1, i), 3)
		}
	}
	tables := write(t, filepath.Join(dir, "jumps"), jumps+"COMMIT\n")
	var wg sync.WaitGroup
	defer wg.Wait()
	for name, words := range map[string][]string{
		"a secret in a pipe":    {"trace", "--user", "gauge", "--secret", "file:" + pipe, "http://" + silent.addr},
		"a card in a pipe":      {"trace", "--card", pipe, "http://" + silent.addr},
		"a sheet in a pipe":     {"trace", "--sheet", pipe, "http://" + silent.addr},
		"roots in a pipe":       {"trace", "--trust", pipe, "https://" + silent.addr},
		"a record in a pipe":    {"trace", "--record", "server=" + pipe, "http://" + silent.addr},
		"facts in a pipe":       {"trace", "--replay", pipe},
		"certificates":          {"certs", "https://" + silent.addr},
		"files in a pipe":       {"certs", pipe},
		"an answer":             {"trace", "https://" + stalls.addr},
		"ssh that says nothing": {"trace", "--at", "root@" + silent.addr, "http://" + silent.addr},
		"a silent agent":        {"login", "--user", "gauge", "ssh://" + silent.addr},
		"a record":              {"record", "--for", "https://" + stalls.addr, "-o", filepath.Join(dir, "r.json")},
		"names": {"names", "--wait", "20s", "--resolver", mute.LocalAddr().String(),
			"tidebook.varzea.example"},
		"laughing aliases": {"trace", "--card", laughing, "http://" + silent.addr},
		"deep brackets":    {"card", "show", deep},
		"tables that jump": {"rules", "--tables", tables, "--from", "10.20.7.31", "--to", "10.20.0.14:443"},
	} {
		for _, by := range []string{"deadline", "Ctrl-C"} {
			wg.Go(func() {
				args := words
				if by == "deadline" && words[0] != "card" && words[0] != "rules" {
					args = append(append([]string{}, words...), "--deadline", "1s")
				}
				cmd := exec.Command(program, args...)
				var out bytes.Buffer
				cmd.Stdout, cmd.Stderr = &out, &out
				if err := cmd.Start(); err != nil {
					t.Error(err)
					return
				}
				if by == "Ctrl-C" {
					time.AfterFunc(700*time.Millisecond, func() { cmd.Process.Signal(syscall.SIGINT) })
				}
				began := time.Now()
				cmd.Wait()
				const slack = 1500 * time.Millisecond // of a machine that runs them all at once
				if took := time.Since(began); took > 2*time.Second+slack {
					t.Errorf("%s, %s: took %s\n%s", name, by, took, out.String())
				}
				usage := cmd.ProcessState.SysUsage().(*syscall.Rusage)
				if usage.Maxrss > 96<<10 {
					t.Errorf("%s, %s: took %d KB", name, by, usage.Maxrss)
				}
				if status := cmd.ProcessState.ExitCode(); by == "Ctrl-C" && status != 130 && status != 2 &&
					words[0] != "rules" &&
					words[0] != "card" {
					t.Errorf("%s: status %d at Ctrl-C\n%s", name, status, out.String())
				}
			})
		}
	}
}

// TestInterruptedTells is what is known when Ctrl-C comes.
func TestInterruptedTells(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("HOME", dir)
	trusted, _, root := serving(t)
	stalls := listen(
		t,
		"127.0.0.1:0",
		func(int32) *tls.Config { return trusted },
		func(c net.Conn, _ int32) { io.Copy(io.Discard, c) },
	)
	file := filepath.Join(dir, "r.json")
	for name, c := range map[string]struct {
		args []string
		says string
	}{
		"certs":  {[]string{"certs", "--trust", root, "https://" + stalls.addr}, "tidebook"},
		"trace":  {[]string{"trace", "--trust", root, "https://" + stalls.addr}, "interrupted"},
		"record": {[]string{"record", "--for", "https://" + stalls.addr, "-o", file}, "it was cut off (interrupted)"},
	} {
		cmd := exec.Command(program, c.args...)
		var out bytes.Buffer
		cmd.Stdout = &out
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.AfterFunc(1500*time.Millisecond, func() { cmd.Process.Signal(os.Interrupt) })
		cmd.Wait()
		if cmd.ProcessState.ExitCode() != 130 || !strings.Contains(oneLine(out.String()), c.says) {
			t.Errorf("%s: status %d, %s", name, cmd.ProcessState.ExitCode(), out.String())
		}
	}
	var r fact.HostRecord
	if err := json.Unmarshal([]byte(readFile(t, file)), &r); err != nil || len(r.Facts) < 5 ||
		r.Incomplete != "interrupted" {
		t.Errorf("%d facts, %q, %v", len(r.Facts), r.Incomplete, err)
	}
	validate(t, "host", []byte(readFile(t, file)))
}

// TestBoundedPeers is servers that never stop talking: what they say is held
// within bounds.
func TestBoundedPeers(t *testing.T) {
	t.Setenv("HOME", t.TempDir())
	t.Setenv("TIDE_SECRET", canary)
	endless := func(first, more string) func(net.Conn, int32) {
		return func(c net.Conn, _ int32) {
			go io.Copy(io.Discard, c)
			io.WriteString(c, first)
			for block := strings.Repeat(more, 64<<10/len(more)); ; {
				if _, err := io.WriteString(c, block); err != nil {
					return
				}
			}
		}
	}
	for _, c := range []struct{ scheme, first, more string }{
		{"imap", "* OK ready\r\n", "\n"}, {"imap", "* OK ready\r\n", "* x\r\n"}, {"smtp", "220 x\r\n", "250-x\r\n"},
		{"smtp", "", "220-x\r\n"}, {"pop3", "+OK\r\n", "x\n"}, {"ftp", "220 x\r\n", "230-x\r\n"},
		{"http", "HTTP/1.1 200 OK\r\n", "X: y\r\n"}, {"redis", "", "+x\r\n"}, {"ssh", "", "x\r\n"},
		{"postgres", "", "N"}, {"ldap", "", "\x30\x05\x02\x01\x01\x64\x00"}, {"rpc", "", "\x00\x00\x00\x00"},
	} {
		h := listen(t, "127.0.0.1:0", nil, endless(c.first, c.more))
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		cmd := exec.CommandContext(
			ctx,
			program,
			"trace",
			"--deadline",
			"4s",
			"--in-the-clear",
			"--user",
			"gauge",
			"--secret",
			"env:TIDE_SECRET",
			c.scheme+"://"+h.addr,
		)
		out, kb, err := measured(t, cmd)
		cancel()
		var exit *exec.ExitError
		if err != nil && !errors.As(err, &exit) {
			t.Fatal(err)
		}
		if kb > 64<<10 || cmd.ProcessState.ExitCode() == 0 && c.scheme != "http" {
			t.Errorf("%s, %q without end: %d KB, status %d\n%s", c.scheme, c.more, kb, cmd.ProcessState.ExitCode(),
				out)
		}
	}
}

// TestNoYes is what answers and is not what was asked for.
func TestNoYes(t *testing.T) {
	t.Setenv("HOME", t.TempDir())
	for scheme, says := range map[string]string{
		"kerberos": "\x00\x00\x00\x08SSH-2.0-", "amqp": "\x01\x00\x00\x00\x00\x00\x10connection.start",
		"mqtt": "\x20\x02\x00\x77", "redis": "+OK hello\r\n", "postgres": "Nxxxxxxxx",
		"nfs":     "\x80\x00\x00\x0cuakaxxxxyyyy",
		"dns+tcp": "\x00\x0cua\x81\x80\x00\x01\x00\x00\x00\x00\x00\x00",
		"ldap":    "\x30\x0c\x02\x01\x07\x65\x07\x0a\x01\x00\x04\x00\x04\x00",
		"smb":     "\x00\x00\x00\x44\xfeSMB" + strings.Repeat("\x00", 70), "mysql": "\x05\x00\x00\x00\x0a1.0\x00",
	} {
		h := listen(t, "127.0.0.1:0", nil, func(c net.Conn, _ int32) {
			if scheme != "mysql" {
				c.Read(make([]byte, 4096))
			}
			io.WriteString(c, says)
			io.Copy(io.Discard, c)
		})
		if r := run(t, "trace", "--deadline", "3s", scheme+"://"+h.addr); r.status == 0 {
			t.Errorf("%s: %s", scheme, r.stdout)
		}
	}
}

// TestQuestionsAgain is a server of SSH that asks for the secret in questions,
// and asks again: a wrong secret is refused, and it was tried once.
func TestQuestionsAgain(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("TIDE_SECRET", canary)
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	var tries atomic.Int32
	for name, c := range map[string]struct {
		passwords bool
		accept    bool
		cut       bool
		status    int
		cause     string
	}{
		"questions alone, wrong":     {false, false, false, 1, "login/rejected"},
		"questions beside, wrong":    {true, false, false, 1, "login/rejected"},
		"closed while it is checked": {false, false, true, 1, "login/rejected"},
		"questions, right":           {false, true, false, 0, ""},
	} {
		tries.Store(0)
		config := &ssh.ServerConfig{MaxAuthTries: 6}
		h := listen(t, "127.0.0.1:0", nil, func(conn net.Conn, _ int32) {
			mine := *config
			if c.passwords {
				mine.PasswordCallback = func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) {
					tries.Add(1)
					return nil, errors.New("no")
				}
			}
			mine.KeyboardInteractiveCallback = func(_ ssh.ConnMetadata,
				ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
				for range 3 {
					if _, err := ask("", "", []string{"Password: "}, []bool{false}); err != nil {
						return nil, err
					}
					tries.Add(1)
					if c.cut {
						conn.Close()
					}
					if c.accept {
						return nil, nil
					}
				}
				return nil, errors.New("no")
			}
			mine.AddHostKey(key)
			_, channels, requests, err := ssh.NewServerConn(conn, &mine)
			if err != nil {
				return
			}
			go ssh.DiscardRequests(requests)
			for c := range channels {
				if channel, more, err := c.Accept(); err == nil {
					go ssh.DiscardRequests(more)
					channel.Close()
				}
			}
		})
		if err := os.MkdirAll(filepath.Join(home, ".ssh"), 0o700); err != nil {
			t.Fatal(err)
		}
		write(t, filepath.Join(home, ".ssh", "known_hosts"), knownhosts.Line([]string{h.addr}, key.PublicKey())+"\n")
		r := run(t, "trace", "--json", "--user", "gauge", "--secret", "env:TIDE_SECRET", "ssh://"+h.addr)
		judged := readTrail(t, r.stdout+r.stderr)
		found := c.cause == "" || len(judged.Blocking()) == 1 && judged.Blocking()[0].ID == c.cause
		if r.status != c.status || !found || tries.Load() != 1 {
			t.Errorf("%s: status %d after %d tries\n%s", name, r.status, tries.Load(), dump(judged))
		}
	}
}

// TestProbesAreFew counts the connections that a port gets of one run, whatever
// it does with them.
func TestProbesAreFew(t *testing.T) {
	t.Setenv("HOME", t.TempDir())
	const most = 1 + 6 // the climb, and what is extra
	for name, handle := range map[string]func(net.Conn, int32){
		"it refuses every handshake": func(c net.Conn, _ int32) {
			c.Read(make([]byte, 4096))
			io.WriteString(c, "\x15\x03\x01\x00\x02\x02\x28")
		},
		"it closes": func(net.Conn, int32) {},
	} {
		h := listen(t, "127.0.0.1:0", nil, handle)
		run(t, "trace", "--deadline", "10s", "https://"+h.addr)
		if n := h.conns.Load(); n > most {
			t.Errorf("%s: %d connections, want at most %d", name, n, most)
		}
	}
}

// TestOutputFiles is what becomes of files that are written.
func TestOutputFiles(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("HOME", dir)
	host, err := os.Hostname()
	if err != nil {
		t.Fatal(err)
	}
	mode := func(path string) os.FileMode {
		info, err := os.Stat(path)
		if err != nil {
			t.Fatal(err)
		}
		return info.Mode().Perm()
	}
	// A file that was open to others is not any more, and that is told.
	facts := write(t, filepath.Join(dir, "facts.json"), "old")
	if err := os.Chmod(facts, 0o644); err != nil {
		t.Fatal(err)
	}
	if r := run(t, "trace", "--facts", facts, "http://127.0.0.1:1/"); mode(facts) != 0o600 ||
		!strings.Contains(r.stderr, "could be read by others") {
		t.Errorf("mode %o, %s", mode(facts), r.stderr)
	}
	// A link of the default name is not followed; one that was typed is.
	victim := write(t, filepath.Join(dir, "victim"), "keep")
	link := filepath.Join(dir, host+".uakari.json")
	if err := os.Symlink(victim, link); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program, "record")
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if info, err := os.Lstat(link); err != nil || !info.Mode().IsRegular() || readFile(t, victim) != "keep" ||
		mode(link) != 0o600 {
		t.Errorf("the default name: %v, %v, %q", info, err, readFile(t, victim))
	}
	typed := filepath.Join(dir, "typed")
	if err := os.Symlink(victim, typed); err != nil {
		t.Fatal(err)
	}
	run(t, "trace", "--json", "-o", typed, "http://127.0.0.1:1/")
	if info, err := os.Lstat(typed); err != nil || info.Mode()&os.ModeSymlink == 0 ||
		!strings.HasPrefix(readFile(t, victim), "{") {
		t.Errorf("a typed name: %v, %v", info, err)
	}
	// What cannot be written whole leaves what was there.
	if r := run(t, "trace", "--json", "-o", "/dev/full", "http://127.0.0.1:1/"); r.status != 2 {
		t.Errorf("a full device: %d %s", r.status, r.stderr)
	}
	if os.Getuid() == 0 {
		small := filepath.Join(dir, "small")
		os.Mkdir(small, 0o700)
		if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=8k"); err == nil {
			defer syscall.Unmount(small, syscall.MNT_DETACH)
			kept := write(t, filepath.Join(small, "facts.json"), "old")
			if r := run(t, "record", "-o", kept); r.status != 2 || readFile(t, kept) != "old" ||
				!strings.Contains(r.stderr, "is left as it was") {
				t.Errorf("a full disk: %d, %s, %q", r.status, r.stderr, readFile(t, kept))
			}
			if list, err := os.ReadDir(small); err != nil || len(list) != 1 {
				t.Errorf("left behind: %v, %v", list, err)
			}
		}
	}
}

// TestNothingHides is a server whose words would hide or turn a text.
func TestNothingHides(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("HOME", dir)
	h := listen(t, "127.0.0.1:0", nil, func(c net.Conn, _ int32) {
		c.Read(make([]byte, 4096))
		io.WriteString(
			c,
			"HTTP/1.1 500 a\u202eb\u200bc\u0085d\\[x](y)\r\nServer: a\u202eb\u2066c\r\nContent-Length: "+
				"3\r\n\r\n\u200f!",
		)
	})
	facts := filepath.Join(dir, "facts.json")
	for _, out := range []string{"json", "text", "md", "html"} {
		r := run(t, "trace", "--out", out, "--facts", facts, "http://"+h.addr+"/\u2066?x=\u202e")
		for where, text := range map[string]string{out: r.stdout, "stderr": r.stderr, "facts": readFile(t, facts)} {
			for _, c := range text {
				if c != '\n' && c != '\t' && !unicode.IsPrint(c) {
					t.Errorf("%s: %U in it", where, c)
					break
				}
			}
		}
		if out == "md" && strings.Contains(r.stdout, `\[x](y)`) && !strings.Contains(r.stdout, `\\\[x](y)`) {
			t.Errorf("a link in Markdown: %s", r.stdout)
		}
	}
}

// TestUnreadable is the network of processes that an ordinary user may not see:
// it is not known, and not "Yes".
func TestUnreadable(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root: a process of another user in another network")
	}
	unshare := needs(t, "util-linux", "/usr/bin/unshare")[0]
	dir, err := os.MkdirTemp("/var/tmp", "uakari")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	os.Chmod(dir, 0o755)
	sleeper := filepath.Join(dir, "sluicegate")
	copied, err := os.ReadFile("/usr/bin/sleep")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(sleeper, copied, 0o755); err != nil {
		t.Fatal(err)
	}
	self, err := os.ReadFile(program)
	if err != nil {
		t.Fatal(err)
	}
	own := filepath.Join(dir, "uakari")
	if err := os.WriteFile(own, self, 0o755); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(unshare, "-n", sleeper, "30")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer cmd.Wait()
	defer cmd.Process.Kill()
	time.Sleep(300 * time.Millisecond)
	asNobody := exec.Command(own, "service", "sluicegate")
	asNobody.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	asNobody.Env = []string{"PATH=/usr/bin", "HOME=/"}
	out, _ := asNobody.CombinedOutput()
	if strings.HasPrefix(string(out), "Yes") || asNobody.ProcessState.ExitCode() == 0 {
		t.Errorf("status %d: %s", asNobody.ProcessState.ExitCode(), out)
	}
}

// measured runs a program to its end, and says how much memory it held at most,
// in kB. What the system says at its end counts what this process held when it
// started it.
func measured(t *testing.T, cmd *exec.Cmd) (out string, kb int, err error) {
	t.Helper()
	var b bytes.Buffer
	cmd.Stdout, cmd.Stderr = &b, &b
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	for {
		select {
		case err := <-done:
			return b.String(), kb, err
		case <-time.After(20 * time.Millisecond):
			text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
			if _, rest, ok := strings.Cut(string(text), "VmHWM:"); ok {
				fmt.Sscan(rest, &kb)
			}
		}
	}
}
