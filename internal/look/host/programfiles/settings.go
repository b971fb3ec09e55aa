package programfiles

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/program"
	"uakari/internal/settingsfile"
)

// Bounds on settings that include others.
const (
	mostIncluded = 200 // files
	mostDepth    = 8   // of files that include files

	mostIncludedBytes = 8 << 20 // of all of them
)

// includes finds a directive that reads further files, in any of the ways in
// which the programs of the table write it.
var includes = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?mi)^[ \t]*!?(?:include|includedir|include_dir|include_try|include_if_exists|` +
			`includeoptional)(?:[ \t]*=[ \t]*|[ \t]+)['"]?([^\s'";#]+)`,
	)
})

// Source is one settings file, as its program reads it.
type Source struct {
	Path string
	Text []byte
	Err  error        // why it could not be read
	By   file.Account // who stands behind what it names
}

// SettingsOf is the settings files of a program as it runs: those that the
// arguments of a process name or, where there is none, those of the places
// where distributions put them; with all that they include. What a process
// names is read for the account that it runs as.
func (h *Host) SettingsOf(p program.Program, pid int) []Source {
	if pid != 0 && h.Apart(pid) {
		return nil // what it calls /etc is not this host's
	}
	if paths := h.Named(p, pid); len(paths) > 0 {
		return WithIncluded(paths, h.Account(pid))
	}
	return WithIncluded(h.Usual(p, pid), file.Account{})
}

// Named is the settings files that the arguments of a process name.
func (h *Host) Named(p program.Program, pid int) []string {
	for _, each := range h.Started(p, pid) {
		if path := namedBy(p, each.Args, each.Folder); path != "" {
			return []string{path}
		}
	}
	return nil
}

func namedBy(p program.Program, args []string, folder string) string {
	if at := slices.Index(args, "-p"); at > 0 && at+1 < len(args) && p.Settings.Begin == "first" {
		folder = args[at+1]
	}
	for _, argument := range p.Settings.Arguments {
		flag, beside, _ := strings.Cut(argument, " ")
		for i, arg := range args[min(1, len(args)):] {
			value := ""
			switch next := i + 2; {
			case flag == "" && !strings.HasPrefix(arg, "-"):
				value = arg
			case flag == "":
			case strings.HasSuffix(flag, "=") && strings.Contains(arg, flag):
				_, value, _ = strings.Cut(arg, flag)
			case arg == flag && next < len(args):
				value = args[next]
			case len(flag) == 2 && strings.HasPrefix(arg, flag) && len(arg) > 2:
				value = arg[2:]
			}
			if value == "" {
				continue
			}
			path := inFolder(filepath.Join(value, beside), folder)
			if info, err := os.Stat(path); err == nil && !info.IsDir() {
				return path
			}
		}
	}
	return ""
}

// Matching is the files that patterns lead to; those of another system lead nowhere.
func Matching(patterns []string) []string {
	var paths []string
	for _, pattern := range patterns {
		if !filepath.IsAbs(pattern) {
			continue
		}
		matches, err := filepath.Glob(pattern)
		if err != nil {
			continue // the patterns are this program's own, or were checked
		}
		paths = append(paths, matches...)
	}
	return paths
}

// WithIncluded is files and what they include, each once, for an account.
func WithIncluded(paths []string, by file.Account) []Source {
	var list []Source
	size := 0
	var take func(path string, by file.Account, depth int)
	take = func(path string, by file.Account, depth int) {
		if depth > mostDepth || len(list) == mostIncluded || size > mostIncludedBytes ||
			slices.ContainsFunc(list, func(s Source) bool { return s.Path == path }) {
			return
		}
		if info, err := os.Stat(path); err != nil || info.IsDir() {
			return
		}
		s := Source{Path: path, By: by}
		s.Text, s.By, s.Err = by.Settings(path, common.MostSettings)
		list = append(list, s)
		size += len(s.Text)
		for _, m := range includes().FindAllSubmatch(s.Text, -1) {
			pattern := string(m[1])
			if !filepath.IsAbs(pattern) {
				pattern = filepath.Join(filepath.Dir(path), pattern)
			}
			if info, err := os.Stat(pattern); err == nil && info.IsDir() {
				pattern = filepath.Join(pattern, "*")
			}
			matches, err := filepath.Glob(pattern)
			if err != nil {
				continue // a pattern of somebody else's that is none
			}
			for _, each := range matches {
				take(each, s.By, depth+1)
			}
		}
	}
	for _, path := range paths {
		take(path, by, 0)
	}
	return list
}

// Holding reports whether processes of a program are among those that hold a
// port, and which of them has the program's own name; 0 for none.
func Holding(p program.Program, held map[string]int) (pid int, holds bool) {
	for name := range held {
		holds = holds || p.Runs(name)
	}
	return held[p.Name], holds
}

// KnownOf is the programs that those who hold a port are of.
func KnownOf(env look.Env, held map[string]int) []program.Program {
	var list []program.Program
	for name := range held {
		p, ok := env.Registry().Of(name)
		if ok && !slices.ContainsFunc(list, func(have program.Program) bool { return have.Name == p.Name }) {
			list = append(list, p)
		}
	}
	slices.SortFunc(list, func(a, b program.Program) int { return strings.Compare(a.Name, b.Name) })
	return list
}

// knownOrAll is the same or, where nobody holds the port, every program.
func knownOrAll(env look.Env, held map[string]int) []program.Program {
	if len(held) > 0 {
		return KnownOf(env, held)
	}
	return env.Registry().All()
}

// Shipped is a program that is known here, by its name.
func Shipped(name string) program.Program {
	p, _ := program.Known().Of(name)
	return p
}

// Found is the values of some keys in a settings file of a program.
func (s Source) Found(p program.Program, keys []program.Key) []settingsfile.Value {
	grammar := p.Settings.Grammar
	values, err := settingsfile.Read(string(s.Text), grammar)
	if err != nil {
		return nil // what is no file of this grammar gives nothing
	}
	return program.Found(values, keys)
}
