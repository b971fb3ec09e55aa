// Package program is what is known of server programs: of each a file in known,
// and code only where a program decides in a way of its own who may come in. It
// is pure: others look and weigh by it. What a user knows of further programs
// has the same form.
package program

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"

	"uakari/internal/fact"
	"uakari/internal/settingsfile"
	"uakari/internal/yamlfile"
)

// Format is the format of a file of one program.
const Format = "uakari.program/1"

// Program is what is true of every copy of a server program.
type Program struct {
	Format string `yaml:"format"`
	// Name is its process, as the kernel shows it.
	Name string `yaml:"name"`
	// Workers are further names of processes that hold its ports.
	Workers []string `yaml:"workers,omitempty"`
	// About says in a few words what it is.
	About string `yaml:"about"`
	// Tried is that what stands here was tried with the program itself; else
	// it is from its documentation.
	Tried bool `yaml:"tried,omitempty"`
	// Paths are where distributions put it, patterns.
	Paths []string `yaml:"paths"`
	Units []string `yaml:"units"`
	// Windows are its services there.
	Windows []string `yaml:"windows,omitempty"`
	// Serves is the schemes that it answers, each with the port where its
	// settings name none; 0 for none.
	Serves map[string]uint16 `yaml:"serves"`
	// Account reads its certificate files, where that is not root.
	Account string `yaml:"account,omitempty"`
	// Proxy is that clients ask it for the pages of other servers.
	Proxy    bool     `yaml:"proxy,omitempty"`
	Settings Settings `yaml:"settings,omitempty"`
	// Logs are its log files, patterns.
	Logs []string `yaml:"logs,omitempty"`
	Says []Saying `yaml:"says,omitempty"`
	// Without says why something is not given.
	Without string `yaml:"without,omitempty"`
}

// Settings is where a program's settings are and what in them is what.
type Settings struct {
	Grammar string   `yaml:"grammar,omitempty"`
	Files   []string `yaml:"files,omitempty"`
	// Arguments are those of its command that name a settings file: "-c", or
	// "--file=", or "-D postgresql.conf" for a folder and the file in it, or
	// "" for a word that is no flag.
	Arguments []string `yaml:"arguments,omitempty"`
	// Begin says where relative paths begin: "" beside the file, "first"
	// beside the first file, "above" a folder higher.
	Begin string `yaml:"begin,omitempty"`
	Port  []Key  `yaml:"port,omitempty"`
	// Strict is that it does not start while a certificate or a key of its settings is of
	// no use; others run on without TLS.
	Strict bool `yaml:"strict,omitempty"`
	// Private are keys of files that it does not use while others may read them; it does not
	// start without one of them. PrivateFiles are those that hold where no key names one.
	Private      []Key    `yaml:"private,omitempty"`
	PrivateFiles []string `yaml:"private-files,omitempty"`

	Certificate []Key `yaml:"certificate,omitempty"`
	Key         []Key `yaml:"key,omitempty"`
	Clients     []Key `yaml:"clients,omitempty"`
	// Versions is the settings that list the versions of TLS which it speaks.
	Versions []Key `yaml:"versions,omitempty"`
	// Demands is the settings by which clients must present a certificate.
	Demands []Key `yaml:"demands,omitempty"`
	Log     []Key `yaml:"log,omitempty"`
	Backend []Key `yaml:"backend,omitempty"`
	// Lists are who may come in.
	Lists []List `yaml:"lists,omitempty"`
}

// List is a list of addresses of one of the common shapes.
type List struct {
	// Order is how it decides: "first" or "last" of those that match, or
	// the "narrowest"; "listed" only who is in allow, "unless" everybody but
	// those in deny, "allow" who is allowed whatever is denied, and nobody
	// else where only allow is given.
	Order string `yaml:"order"`
	Allow []Key  `yaml:"allow,omitempty"`
	Deny  []Key  `yaml:"deny,omitempty"`
	// Else is what happens to whom nothing names: "allow" or "deny".
	Else string `yaml:"else,omitempty"`
}

// Saying is words that the program says, and what they mean.
type Saying struct {
	// Words are a regular expression, in any case of letters.
	Words string `yaml:"words"`
	Cause string `yaml:"cause"`
	Means string `yaml:"means,omitempty"`
	// At is when it says so: "start" when it is started, "refusal" when it
	// turns somebody away.
	At string `yaml:"at,omitempty"`

	words *regexp.Regexp
}

// Key is a key of settings; behind " ~ " a regular expression whose first
// group is the part of the value that counts.
type Key struct {
	Name    string
	pattern *regexp.Regexp
}

// UnmarshalYAML reads a key.
func (k *Key) UnmarshalYAML(text []byte) error {
	var s string
	if err := yaml.Unmarshal(text, &s); err != nil {
		return err
	}
	name, pattern, has := strings.Cut(s, " ~ ")
	k.Name = strings.TrimSpace(name)
	if !has {
		return nil
	}
	p, err := regexp.Compile("(?i)" + pattern)
	if err == nil && p.NumSubexp() < 1 {
		err = errors.New("it has no group")
	}
	if err != nil {
		return fmt.Errorf("%q is no regular expression with a group: %w", pattern, err)
	}
	k.pattern = p
	return nil
}

// In is the parts of a value that count for a key; none if it is another's.
func (k Key) In(v settingsfile.Value) []string {
	if v.Off || !v.Is(k.Name) {
		return nil
	}
	return k.Part(v.Text)
}

// Part is what counts of a value of the key.
func (k Key) Part(value string) []string {
	if k.pattern == nil {
		return []string{value}
	}
	var list []string
	for _, m := range k.pattern.FindAllStringSubmatch(value, -1) {
		for _, group := range m[1:] {
			if group != "" {
				list = append(list, group)
				break
			}
		}
	}
	return list
}

// Found is the parts of settings that are of some keys, with where they stand.
func Found(values []settingsfile.Value, keys []Key) []settingsfile.Value {
	var list []settingsfile.Value
	for _, v := range values {
		for _, k := range keys {
			for _, part := range k.In(v) {
				each := v
				each.Text = part
				list = append(list, each)
			}
		}
	}
	return list
}

// Runs reports whether a process of this name is the program's.
func (p Program) Runs(process string) bool {
	return p.Name == process || slices.Contains(p.Workers, process)
}

// Read reads a file of one program. An error names file, line and column.
func Read(file string, text []byte) (Program, error) {
	var p Program
	if err := yamlfile.Decode(file, text, &p); err != nil {
		return p, err
	}
	at, err := yamlfile.PlacesOf(file, text)
	if err != nil {
		return p, err
	}
	return p, p.check(at)
}

var wellNamed = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+@-]*$`)

func (p *Program) check(at yamlfile.Places) error {
	switch {
	case p.Format != Format:
		return at.Wrong("$.format", "the format is %q; expected %q", p.Format, Format)
	case !wellNamed.MatchString(p.Name):
		return at.Wrong("$.name", "%q is no name of a process", p.Name)
	case p.About == "":
		return at.Wrong("$.about", "about is missing; expected a few words on what the program is")
	case len(p.Serves) == 0:
		return at.Wrong("$.serves", "serves is missing; expected schemes, each with its port")
	case len(p.Units) == 0 && len(p.Windows) == 0 && p.Without == "":
		return at.Wrong(
			"$.units",
			"units are missing; expected the units that run it, or under without why there are none",
		)
	case len(p.Settings.Files) > 0 != (p.Settings.Grammar != ""):
		return at.Wrong("$.settings", "expected files and their grammar, or neither")
	case p.Settings.Grammar != "" && !slices.Contains(settingsfile.Grammars(), p.Settings.Grammar):
		return at.Wrong(
			"$.settings.grammar",
			"no grammar is called %q; expected one of %s",
			p.Settings.Grammar,
			strings.Join(settingsfile.Grammars(), ", "),
		)
	case !slices.Contains([]string{"", "first", "above"}, p.Settings.Begin):
		return at.Wrong(
			"$.settings.begin",
			`%q is no place where paths begin; expected "first" or "above"`,
			p.Settings.Begin,
		)
	}
	for _, group := range [][]string{p.Paths, p.Settings.Files, p.Logs} {
		for _, pattern := range group {
			if _, err := path.Match(pattern, ""); err != nil || !rooted(pattern) {
				return at.Wrong("$", "%q is no whole path or pattern of paths", pattern)
			}
		}
	}
	for i, l := range p.Settings.Lists {
		if !slices.Contains([]string{"first", "last", "narrowest", "listed", "unless", "allow"}, l.Order) ||
			!slices.Contains([]string{"", "allow", "deny"}, l.Else) {
			return at.Wrong(
				fmt.Sprintf("$.settings.lists[%d]", i),
				`expected order first, last, narrowest, listed, unless or allow, and else allow or deny`,
			)
		}
	}
	for i := range p.Says {
		s := &p.Says[i]
		words, err := regexp.Compile("(?i)" + s.Words)
		if err != nil || s.Words == "" {
			return at.Wrong(fmt.Sprintf("$.says[%d].words", i), "%q is no regular expression", s.Words)
		}
		if s.words = words; !strings.Contains(s.Cause, "/") {
			return at.Wrong(
				fmt.Sprintf("$.says[%d].cause", i),
				"%q is no cause; expected one such as login/refused",
				s.Cause,
			)
		}
		if !slices.Contains([]string{"", "start", "refusal"}, s.At) {
			return at.Wrong(fmt.Sprintf("$.says[%d].at", i), `%q is no time; expected "start" or "refusal"`, s.At)
		}
	}
	return nil
}

// rooted reports whether a path is whole, on any system.
func rooted(p string) bool {
	return strings.HasPrefix(p, "/") || len(p) > 2 && p[1] == ':' && (p[2] == '\\' || p[2] == '/') ||
		strings.HasPrefix(p, "%") || strings.HasPrefix(p, `.\`) // below the program's folder, or the one above
}

// Registry is all programs that are known to a run, the user's own first.
type Registry struct {
	Own  []fact.ProgramFile // of the user
	list []*entry
}

// entry is one program, whose file is read when it is first asked for: a run
// needs few of them.
type entry struct {
	file string
	text []byte
	once sync.Once
	p    Program
}

func (e *entry) program() Program {
	e.once.Do(func() {
		if e.text == nil {
			return // it came read
		}
		p, err := Read(e.file, e.text)
		if err != nil {
			panic(err) // it is shipped, and a test reads every one
		}
		e.p = p
	})
	return e.p
}

// speaksOf reports whether a program could be about a word at all.
func (e *entry) speaksOf(word string) bool {
	return e.text == nil || bytes.Contains(e.text, []byte(word))
}

//go:embed known/*.yaml
var known embed.FS

// Known is the programs that this program ships with, by name.
var Known = sync.OnceValue(func() *Registry {
	names, err := fs.Glob(known, "known/*.yaml")
	if err != nil {
		panic(err) // the pattern is ours
	}
	r := &Registry{}
	for _, name := range names {
		text, err := known.ReadFile(name)
		if err != nil {
			panic(err) // it is embedded
		}
		r.list = append(r.list, &entry{file: name, text: text})
	}
	return r
})

// With is the programs that are known with those of the user's own, which go
// before those of the same name. The error is that of Read.
func With(files []fact.ProgramFile) (*Registry, error) {
	if len(files) == 0 {
		return Known(), nil
	}
	r := &Registry{Own: files}
	for _, f := range files {
		p, err := Read(f.Path, []byte(f.Text))
		if err != nil {
			return nil, err
		}
		r.list = append(r.list, &entry{p: p})
	}
	own := r.list
	for _, e := range Known().list {
		if !slices.ContainsFunc(
			own,
			func(o *entry) bool { return e.speaksOf(o.p.Name) && e.program().Name == o.p.Name },
		) {
			r.list = append(r.list, e)
		}
	}
	return r, nil
}

// Taught is the programs of the user's own files.
func (r *Registry) Taught() []Program {
	var list []Program
	for _, e := range r.list[:len(r.Own)] {
		list = append(list, e.program())
	}
	return list
}

// All is every program.
func (r *Registry) All() []Program {
	var list []Program
	for _, e := range r.list {
		list = append(list, e.program())
	}
	return list
}

// Serving is the programs that answer a scheme.
func (r *Registry) Serving(scheme string) []Program {
	var list []Program
	for _, e := range r.list {
		if !e.speaksOf(scheme + ":") {
			continue
		}
		if _, ok := e.program().Serves[scheme]; ok {
			list = append(list, e.program())
		}
	}
	return list
}

// Uses reports whether a port is one of the program's where its settings name
// none.
func (p Program) Uses(port uint16) bool {
	for _, usual := range p.Serves {
		if usual == port && port != 0 {
			return true
		}
	}
	return false
}

// Using is the programs whose usual port this is.
func (r *Registry) Using(port uint16) []Program {
	var list []Program
	for _, e := range r.list {
		if e.speaksOf(strconv.Itoa(int(port))) && e.program().Uses(port) {
			list = append(list, e.program())
		}
	}
	return list
}

// Of is the program that a process is of, by the name of the process.
func (r *Registry) Of(process string) (Program, bool) {
	for _, e := range r.list {
		if process != "" && e.speaksOf(process) && e.program().Runs(process) {
			return e.program(), true
		}
	}
	return Program{}, false
}

// OfUnit is the program that a unit starts, by the files of programs.
func (r *Registry) OfUnit(unit string) (Program, bool) {
	for _, p := range r.All() {
		if slices.Contains(p.Units, unit) {
			return p, true
		}
	}
	return Program{}, false
}

// Means is what lines mean that a program wrote, at a start or at a refusal,
// and which of them says so: what stands first in the program's file tells
// most, and of its lines the last.
func (r *Registry) Means(process string, lines []string, at string) (m Meaning, line int, ok bool) {
	p, ok := r.Of(process)
	if !ok {
		return Meaning{}, 0, false
	}
	for _, s := range p.Says {
		if s.At != "" && s.At != at {
			continue
		}
		for i, line := range slices.Backward(lines) {
			if s.words.MatchString(line) {
				return Meaning{Cause: s.Cause, Says: s.Means, Sure: true}, i, true
			}
		}
	}
	return Meaning{}, 0, false
}

var portBehind = regexp.MustCompile(`(?:^|:)(\d{1,5})(?:[\s;,/>"'\]}]|$)`)

// Ports is the ports in a value of settings: a number by itself, or behind an
// address and a colon. The parts of an address are none.
func Ports(value string) []uint16 {
	var list []uint16
	for _, word := range strings.FieldsFunc(value, func(r rune) bool { return strings.ContainsRune(" \t,;'\"", r) }) {
		if _, err := netip.ParseAddr(strings.Trim(word, "[]")); err == nil {
			continue
		}
		if to, err := netip.ParseAddrPort(word); err == nil {
			list = append(list, to.Port())
			continue
		}
		if m := portBehind.FindStringSubmatch(word); m != nil {
			if n, err := strconv.ParseUint(m[1], 10, 16); err == nil && n > 0 {
				list = append(list, uint16(n))
			}
		}
	}
	return list
}
