//go:build linux

package linux

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/program"
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

// source is one settings file, as its program reads it.
type source struct {
	path string
	text []byte
	err  error        // why it could not be read
	by   file.Account // who stands behind what it names
}

// settingsOf is the settings files of a program as it runs: those that the
// arguments of a process name or, where there is none, those of the places
// where distributions put them; with all that they include. What a process
// names is read for the account that it runs as.
func settingsOf(p program.Program, pid int) []source {
	by := file.Account{}
	if pid != 0 {
		if !sameRoot(pid) {
			return nil // what it calls /etc is not this host's
		}
		if paths := argued(p, pid); len(paths) > 0 {
			return withIncluded(paths, accountOf(pid))
		}
	}
	return withIncluded(matching(p.Settings.Files), by)
}

// matching is the files that patterns lead to.
func matching(patterns []string) []string {
	var paths []string
	for _, pattern := range patterns {
		matches, err := filepath.Glob(pattern)
		if err != nil {
			continue // the patterns are this program's own, or were checked
		}
		paths = append(paths, matches...)
	}
	return paths
}

// accountOf is the account that a process runs as; one that cannot be told may
// read nothing.
func accountOf(pid int) file.Account {
	by, err := file.OfProcess(pid)
	if err != nil {
		return file.Account{UID: ^uint32(0)}
	}
	return by
}

// sameRoot reports whether a process sees the files that this host has, as far
// as that can be seen: one in a container has others under the same names.
func sameRoot(pid int) bool {
	own, err := os.Stat("/")
	if err != nil {
		return true
	}
	other, err := os.Stat(procFile(pid, "root") + "/")
	return err != nil || os.SameFile(own, other)
}

// argued is the settings files that a process was started with or, of one that
// was made by another of the same program, that one.
func argued(p program.Program, pid int) []string {
	for range mostDepth {
		if files := arguedBy(p, pid); len(files) > 0 {
			return files
		}
		if pid = parentOf(pid); pid <= 1 || !p.Runs(programName(pid)) {
			break
		}
	}
	return nil
}

// argumentsOf is the values of the arguments of a process that begin so.
func argumentsOf(pid int, prefix string) []string {
	text, err := file.Head(procFile(pid, "cmdline"), mostCommand)
	if err != nil {
		return nil
	}
	var list []string
	for arg := range strings.SplitSeq(string(text), "\x00") {
		if value, ok := strings.CutPrefix(arg, prefix); ok {
			list = append(list, value)
		}
	}
	return list
}

// parentOf is the process that made another; 0 if it cannot be seen.
func parentOf(pid int) int {
	text, err := os.ReadFile(procFile(pid, "stat"))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
	if len(fields) < 2 {
		return 0
	}
	parent, err := strconv.Atoi(fields[1])
	if err != nil {
		return 0
	}
	return parent
}

func arguedBy(p program.Program, pid int) []string {
	text, err := file.Head(procFile(pid, "cmdline"), mostCommand)
	if err != nil {
		return nil
	}
	args := strings.Split(strings.TrimRight(string(text), "\x00"), "\x00")
	if len(args) == 1 {
		args = strings.Fields(args[0]) // a program that wrote its title over them
	}
	folder, err := os.Readlink(procFile(pid, "cwd"))
	if err != nil {
		folder = "/"
	}
	prefix := folder
	if at := slices.Index(args, "-p"); at > 0 && at+1 < len(args) && p.Settings.Begin == "first" {
		prefix = args[at+1]
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
			path := filepath.Join(value, beside)
			if !filepath.IsAbs(path) {
				path = filepath.Join(prefix, path)
			}
			if info, err := os.Stat(path); err == nil && !info.IsDir() {
				return []string{path}
			}
		}
	}
	return nil
}

// withIncluded is files and what they include, each once, for an account.
func withIncluded(paths []string, by file.Account) []source {
	var list []source
	size := 0
	var take func(path string, by file.Account, depth int)
	take = func(path string, by file.Account, depth int) {
		if depth > mostDepth || len(list) == mostIncluded || size > mostIncludedBytes ||
			slices.ContainsFunc(list, func(s source) bool { return s.path == path }) {
			return
		}
		if info, err := os.Stat(path); err != nil || info.IsDir() {
			return
		}
		s := source{path: path, by: by}
		s.text, s.by, s.err = by.Settings(path, common.MostSettings)
		list = append(list, s)
		size += len(s.text)
		for _, m := range includes().FindAllSubmatch(s.text, -1) {
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
				take(each, s.by, depth+1)
			}
		}
	}
	for _, path := range paths {
		take(path, by, 0)
	}
	return list
}

// glance is how long a list of processes is good for: several looks of one
// moment ask for it.
const glance = 300 * time.Millisecond

// namedProcess is a process with its program.
type namedProcess struct {
	pid     int
	program string
}

var running struct {
	sync.Mutex
	at   time.Time
	list []namedProcess
}

// processes is every process of this host with its program, the newest first,
// as of a moment ago.
func processes() ([]namedProcess, error) {
	running.Lock()
	defer running.Unlock()
	if time.Since(running.at) < glance {
		return running.list, nil
	}
	return lookAround()
}

// processesNow is the same, as of now.
func processesNow() ([]namedProcess, error) {
	running.Lock()
	defer running.Unlock()
	return lookAround()
}

// lookAround lists the processes anew. The caller holds the lock.
func lookAround() ([]namedProcess, error) {
	all, err := pids()
	if err != nil {
		return nil, err
	}
	list := make([]namedProcess, len(all))
	for i, pid := range all {
		list[i] = namedProcess{pid, programName(pid)}
	}
	running.at, running.list = time.Now(), list
	return list, nil
}

// pidOf is the oldest process of a program on this host's network; 0 for none.
func pidOf(p program.Program) int {
	list, err := processes()
	if err != nil {
		return 0
	}
	for _, each := range slices.Backward(list) {
		if each.program == p.Name && !apart(each.pid) && sameRoot(each.pid) {
			return each.pid
		}
	}
	return 0
}

// holding reports whether processes of a program are among those that hold a
// port, and which of them has the program's own name; 0 for none.
func holding(p program.Program, held map[string]int) (pid int, holds bool) {
	for name := range held {
		holds = holds || p.Runs(name)
	}
	return held[p.Name], holds
}

// knownOf is the programs that those who hold a port are of.
func knownOf(env look.Env, held map[string]int) []program.Program {
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
		return knownOf(env, held)
	}
	return env.Registry().All()
}

// shipped is a program that is known here, by its name.
func shipped(name string) program.Program {
	p, _ := program.Known().Of(name)
	return p
}
