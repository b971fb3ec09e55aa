// Package demo builds a made-up world on loopback addresses: a resolver, an
// authority, and small stand-ins for servers, each a process of its own. It
// breaks the world chapter by chapter, so that a trace has something to find.
package demo

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"uakari/internal/card"
	"uakari/internal/fact"
	"uakari/internal/sheet"
)

// domain is the world's own.
const domain = "varzea.example"

// The world's network stands on loopback, where everybody may listen.
var (
	resolverAddr = resolverOf(runtime.GOOS)
	zone         = map[string]string{
		"clock": "127.20.0.2", "tidebook": "127.20.0.14", "sluice": "127.20.0.31", "rainfall": "127.20.0.32",
		"soundings": "127.20.0.33", "almanac": "127.20.0.34", "charts": "127.20.0.35",
		"heron": "127.20.0.36", "gaugings": "127.20.0.37", "exchange": "127.20.0.38", "receipts": "127.20.0.39",
		"registry": "127.20.0.40", "ledger": "127.20.0.41", "moorings": "127.20.0.42",
		"depths": "127.20.0.43", "wharf": "127.20.0.46",
	}
	aliases = map[string]string{"readings": "tidebook"}
)

// Stand is one stand-in server.
type Stand struct {
	Program string `json:"program"`
	Listen  string `json:"listen"`
	// "https", "http", "hung", "gateway", "door", "open door", "database", "domain database", "agent", "guarded"
	Kind  string        `json:"kind"`
	Log   string        `json:"log,omitempty"`   // of a door: whom it refused, and why
	To    string        `json:"to,omitempty"`    // of a gateway: its backend
	List  string        `json:"list,omitempty"`  // of a guarded one: the file of those it lets in
	Names []string      `json:"names,omitempty"` // that its certificate covers
	Ended time.Duration `json:"ended,omitempty"` // how long ago its certificate expired
	Cert  string        `json:"cert,omitempty"`  // file
	Key   string        `json:"key,omitempty"`   // file
}

// World is the made-up world, up and running.
type World struct {
	Dir       string
	authority *authority
	resolver  io.Closer
	running   map[string]*process
}

// resolverOf is where the world's resolver is: on Windows the system itself holds port 5353
// (RFC 6762).
func resolverOf(system string) netip.AddrPort {
	if system == "windows" {
		return netip.MustParseAddrPort("127.0.0.1:15353")
	}
	return netip.MustParseAddrPort("127.20.0.2:5353")
}

type process struct {
	cmd   *exec.Cmd
	stdin io.Closer
}

// Up builds the world in a folder: its authority, its resolver, its files.
func Up(dir string) (*World, error) {
	for _, sub := range []string{"bin", "keys"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
			return nil, err
		}
	}
	a, err := newAuthority()
	if err != nil {
		return nil, err
	}
	w := &World{Dir: dir, authority: a, running: map[string]*process{}}
	if err := os.WriteFile(w.Trust(), a.rootPEM(), 0o600); err != nil {
		return nil, err
	}
	if w.resolver, err = serveNames(resolverAddr); err != nil {
		return nil, fmt.Errorf("the demo's resolver: %w", err)
	}
	for _, c := range Chapters {
		if err := w.writeFiles(c); err != nil {
			w.Down()
			return nil, err
		}
	}
	return w, nil
}

// Trust is the file with the world's own root certificate.
func (w *World) Trust() string { return filepath.Join(w.Dir, "authority.pem") }

// Hosts is the hosts file of a chapter.
func (w *World) Hosts(c Chapter) string { return filepath.Join(w.Dir, "hosts-"+c.Name) }

// CardFile is the card of a chapter's service.
func (w *World) CardFile(c Chapter) string { return filepath.Join(w.Dir, c.Name+".yaml") }

// Card is what a chapter's healthy service looks like.
func (w *World) Card(c Chapter) (*fact.Card, error) {
	path := w.CardFile(c)
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return card.Parse(path, text)
}

// PutFiles writes files of a chapter into the world's folder.
func (w *World) PutFiles(files map[string]string) error {
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(w.Dir, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// Age makes files of the world's folder look as if nobody had written them for
// hours.
func (w *World) Age(names []string) error {
	for _, name := range names {
		then := time.Now().Add(-8 * time.Hour)
		if err := os.Chtimes(filepath.Join(w.Dir, name), then, then); err != nil {
			return err
		}
	}
	return nil
}

// Sheets is the sheets of a chapter.
func (w *World) Sheets(c Chapter) ([]fact.Sheet, error) {
	if c.Sheet == "" {
		return nil, nil
	}
	path := filepath.Join(w.Dir, c.Sheet)
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	s, err := sheet.Parse(path, text)
	if err != nil {
		return nil, err
	}
	return []fact.Sheet{*s}, nil
}

// program is where a stand-in's program is. Windows starts only what is called so.
func (w *World) program(name string) string {
	if runtime.GOOS == "windows" {
		name += ".exe"
	}
	return filepath.Join(w.Dir, "bin", name)
}

// named gives this program a further name, by a link; on Windows by a copy, since most users
// may not make a link there, and a process over a second hard link is told by the first name.
func named(self, name string) error {
	if runtime.GOOS != "windows" {
		return os.Symlink(self, name)
	}
	from, err := os.Open(self)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o700)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, from)
	return errors.Join(err, to.Close())
}

func (w *World) writeFiles(c Chapter) error {
	if err := os.WriteFile(w.Hosts(c), []byte(c.Hosts), 0o600); err != nil {
		return err
	}
	text := fmt.Sprintf(
		"format: uakari.card/1\nname: %s\nendpoint: %s\nprogram: %s\n",
		c.Service,
		c.Plain(),
		filepath.ToSlash(w.program(c.Service)),
	) + strings.ReplaceAll(
		c.Card,
		"{dir}",
		filepath.ToSlash(w.Dir),
	)
	if err := os.WriteFile(w.CardFile(c), []byte(text), 0o600); err != nil {
		return err
	}
	if err := w.PutFiles(c.Files); err != nil {
		return err
	}
	if err := w.Age(c.Old); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	programs := []string{c.Service}
	for _, s := range append(slices.Clone(c.Broken), c.Mended...) {
		programs = append(programs, s.Program)
	}
	for _, program := range programs {
		if err := named(self, w.program(program)); err != nil && !errors.Is(err, os.ErrExist) {
			return err
		}
	}
	return nil
}

// Playable is the chapters that can be played here.
func Playable() []Chapter {
	return slices.DeleteFunc(slices.Clone(Chapters), func(c Chapter) bool {
		return c.Linux &&
			runtime.GOOS != "linux"
	})
}

// Resolver is the world's resolver.
func (w *World) Resolver() netip.AddrPort { return resolverAddr }

// Set makes stand-ins run as given. One that runs already is replaced.
func (w *World) Set(stands []Stand) error {
	for _, s := range stands {
		w.Stop(s.Program)
		if err := w.start(s); err != nil {
			return fmt.Errorf("stand-in %s: %w", s.Program, err)
		}
	}
	return nil
}

// start runs a stand-in and waits until it is ready. It ends when this
// program does, since it then loses its standard input.
func (w *World) start(s Stand) error {
	s.Cert, s.Key = filepath.Join(w.Dir, "keys", s.Program+".pem"), filepath.Join(w.Dir, "keys", s.Program+".key")
	if s.Kind == "agent" || strings.HasSuffix(s.Kind, "door") || strings.HasSuffix(s.Kind, "database") {
		s.Log = filepath.Join(w.Dir, s.Program+".log")
	}
	if s.Kind == "guarded" {
		s.List = filepath.Join(w.Dir, s.Program+".allow")
	}
	if s.Kind == "https" || s.Log != "" && s.Kind != "agent" {
		if err := w.authority.issue(s); err != nil {
			return err
		}
	}
	config, err := json.Marshal(s)
	if err != nil {
		return err
	}
	file := filepath.Join(w.Dir, "keys", s.Program+".json")
	if err := os.WriteFile(file, config, 0o600); err != nil {
		return err
	}
	cmd := exec.Command(w.program(s.Program), "stand-in", file)
	cmd.Stderr = nil
	stdin, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	w.running[s.Program] = &process{cmd, stdin}
	line, err := bufio.NewReader(stdout).ReadString('\n')
	if line = strings.TrimSpace(line); line != "ready" {
		w.Stop(s.Program)
		return fmt.Errorf("it did not start: %s %w", line, err)
	}
	return nil
}

// Stop stops a stand-in, if it runs.
func (w *World) Stop(program string) {
	p := w.running[program]
	if p == nil {
		return
	}
	delete(w.running, program)
	p.stdin.Close()
	done := time.AfterFunc(2*time.Second, func() { p.cmd.Process.Kill() })
	p.cmd.Wait() // its status does not matter: it was told to end
	done.Stop()
}

// StopAll stops every stand-in.
func (w *World) StopAll() {
	for name := range w.running {
		w.Stop(name)
	}
}

// Down ends the world. The folder stays.
func (w *World) Down() {
	w.StopAll()
	if w.resolver != nil {
		w.resolver.Close()
	}
}
