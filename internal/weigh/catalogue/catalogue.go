// Package catalogue is the causes: for each its owner, its proof, what it means, and its
// remedies. The identifiers are a contract.
package catalogue

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"sync"

	"uakari/internal/foreign"
	"uakari/internal/trail"

	"github.com/goccy/go-yaml"
)

// Entry is one cause of the catalogue, as `uakari explain` tells it.
type Entry struct {
	ID       string `yaml:"-"`
	Title    string `yaml:"title"`
	Means    string `yaml:"means"`
	Looks    string `yaml:"looks"`    // from the client
	Proof    string `yaml:"proof"`    // the least that lets it be called proven
	Mistaken string `yaml:"mistaken"` // what else it is taken for
	// ToldBy is the causes that tell more about the same fault: where one of
	// them was found too, it is the cause, and this its evidence.
	ToldBy []string `yaml:"told_by"`
	// After is the causes that are fixed before this one: without that, its own fix does
	// not hold.
	After []string `yaml:"after"`
	// Effect is what the remedies change in what is known, by the name of a change that a
	// rehearsal can make, or "none: " and why only a new look can tell.
	Effect   string   `yaml:"effect"`
	Remedies []Remedy `yaml:"remedies"`
	// Example is what stands in the places of the remedies where no trace fills them in, as far
	// as it is not what stands there for all causes; with "@windows" behind the name that of a
	// host with Windows.
	Example map[string]string `yaml:"example"`
}

// FixedAfter reports whether a cause is fixed after another one.
func FixedAfter(cause, first string) bool {
	return slices.Contains(catalogue(RungOf(cause))[cause].After, first)
}

// Remedy is a remedy with places, in braces, for what was found. One with a
// place that nothing fills does not apply.
type Remedy struct {
	Do      string `yaml:"do"`
	Command string `yaml:"command"`
	Host    string `yaml:"host"`
	Owner   string `yaml:"owner"`
	Risk    string `yaml:"risk"`
	Undo    string `yaml:"undo"`
	// Else marks a remedy for when none before it applied.
	Else bool `yaml:"else"`
}

//go:embed *.yaml
var catalogueFiles embed.FS

// catalogue reads one rung's causes, once.
var catalogue = func() func(trail.Rung) map[string]Entry {
	readers := map[trail.Rung]func() map[string]Entry{}
	for _, rung := range trail.Ladder {
		readers[rung] = sync.OnceValue(func() map[string]Entry { return readCatalogue(rung) })
	}
	return func(rung trail.Rung) map[string]Entry {
		if read := readers[rung]; read != nil {
			return read()
		}
		return nil
	}
}()

// Values fill the places of a remedy.
type Values map[string]string

// Rung is the rung the cause belongs to.
func (e Entry) Rung() trail.Rung { return RungOf(e.ID) }

func RungOf(id string) trail.Rung {
	rung, _, _ := strings.Cut(id, "/")
	return trail.Rung(rung)
}

func readCatalogue(rung trail.Rung) map[string]Entry {
	named := map[string]Entry{}
	text, err := catalogueFiles.ReadFile(string(rung) + ".yaml")
	if errors.Is(err, fs.ErrNotExist) {
		return map[string]Entry{} // a rung without causes so far
	}
	if err == nil {
		err = yaml.UnmarshalWithOptions(text, &named, yaml.Strict())
	}
	if err != nil {
		// The files are part of the program and a test reads them all.
		panic(fmt.Sprintf("weigh: catalogue of %s: %v", rung, err))
	}
	entries := map[string]Entry{}
	for name, e := range named {
		e.ID = string(rung) + "/" + name
		entries[e.ID] = e
	}
	return entries
}

// Explain finds a cause of the catalogue.
func Explain(id string) (Entry, bool) {
	e, ok := catalogue(RungOf(id))[id]
	return e, ok
}

// CauseIDs is every identifier of the catalogue, rung by rung.
func CauseIDs() []string {
	var ids []string
	for _, rung := range trail.Ladder {
		ids = append(ids, slices.Sorted(maps.Keys(catalogue(rung)))...)
	}
	return ids
}

// fill puts values into the places of a text. A command's values are quoted
// for a shell, since they come from outside, unless the place begins with "=":
// that is a command by itself, made here. It reports whether every place was
// filled.
func (v Values) fill(text string, quote func(string) string) (string, bool) {
	var b strings.Builder
	for {
		before, after, ok := strings.Cut(text, "{")
		b.WriteString(before)
		if !ok {
			return b.String(), true
		}
		place, rest, ok := strings.Cut(after, "}")
		value := v[strings.TrimPrefix(place, "=")]
		if !ok || value == "" {
			return "", false
		}
		if place[0] != '=' {
			value = quote(value)
		}
		b.WriteString(value)
		text = rest
	}
}

func asIs(s string) string { return s }

// Remedies is the remedies of a cause that apply to what was found, in the
// words of the system of the host that each is for: systemOf says which that is
// ("windows"), by the host's name; nil or "" is Linux.
func Remedies(id string, v Values, systemOf func(host string) string) []trail.Remedy {
	list := []trail.Remedy{}
	for _, r := range catalogue(RungOf(id))[id].Remedies {
		if r.Else && len(list) > 0 {
			continue
		}
		if host, ok := v.fill(r.Host, asIs); ok && systemOf != nil {
			r = r.On(systemOf(host))
		}
		if filled, ok := r.fill(v); ok {
			list = append(list, filled)
		}
	}
	return list
}

func (r Remedy) fill(v Values) (trail.Remedy, bool) {
	var out trail.Remedy
	all := true
	for _, part := range []struct {
		to    *string
		text  string
		quote func(string) string
	}{
		{&out.Do, r.Do, asIs}, {&out.Command, r.Command, foreign.ShellWord}, {&out.Host, r.Host, asIs},
		{&out.Owner, r.Owner, asIs}, {&out.Risk, r.Risk, asIs}, {&out.Undo, r.Undo, foreign.ShellWord},
	} {
		text, ok := v.fill(part.text, part.quote)
		*part.to = text
		all = all && ok
	}
	return out, all
}
