//go:build linux

package linux

import (
	"context"
	"debug/elf"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/keep"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/program"
	"uakari/internal/settingsfile"
)

// listFile is a list in a shape of a program's own, as it lies on this host.
type listFile program.OwnList

// sources is the files of this kind, as the program that holds the port was
// told of them, or in the usual places.
func (f listFile) sources(held map[string]int) []source {
	for _, name := range f.Programs {
		pid := held[name]
		if pid == 0 {
			continue
		}
		if !sameRoot(pid) {
			return nil
		}
		paths := argued(shipped(name), pid)
		if len(paths) == 0 {
			break
		}
		if f.Kind == fact.ListHBA {
			text, by, err := accountOf(pid).Settings(paths[0], common.MostSettings)
			if err != nil {
				return []source{{path: paths[0], err: err}}
			}
			return withIncluded([]string{listOfPostgres(pid, paths[0], text)}, by)
		}
		return withIncluded(paths, accountOf(pid))
	}
	return withIncluded(matching(f.Globs), file.Account{})
}

// listOfPostgres is the access list that a PostgreSQL was started with, or that
// its settings name, or the one beside them.
func listOfPostgres(pid int, path string, text []byte) string {
	for _, argument := range []string{"hba_file=", "--hba_file=", "--hba-file=", "-chba_file="} {
		if named := argumentsOf(pid, argument); len(named) > 0 {
			return named[len(named)-1]
		}
	}
	if m := regexp.MustCompile(`(?m)^\s*hba_file\s*=?\s*'([^']+)'`).FindSubmatch(text); m != nil {
		return string(m[1])
	}
	return filepath.Join(filepath.Dir(path), "pg_hba.conf")
}

// mostLines bounds what is kept of one file.
const mostLines = 20000

// Access leaves the files by which addresses are let in, and which programs
// ask the wrapper.
func Access(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	a := fact.Access{Files: []fact.AccessFile{}}
	held := programsOn(ctx, env, order.Target.Port)
	add := func(from source, kind string, pattern *regexp.Regexp) {
		f, err := from.access(kind, pattern)
		switch {
		case errors.Is(err, os.ErrNotExist):
		case err != nil:
			emit(env.Failed(order, from.path, "could not read an access list", err, "root"))
		default:
			a.Files = append(a.Files, f)
		}
	}
	for name, pid := range held {
		if wrapped(procFile(pid, "exe")) {
			a.Wrapped = append(a.Wrapped, name)
		}
	}
	for _, own := range program.OwnLists() {
		f := listFile(own)
		if f.Programs != nil && !env.Deep &&
			!slices.ContainsFunc(f.Programs, func(p string) bool { _, ok := held[p]; return ok }) {
			continue
		}
		for _, from := range f.sources(held) {
			if f.Kind == fact.ListPostfix {
				from.text = unfolded(from.text)
				for _, table := range program.PostfixTables(string(from.text)) {
					text, by, err := from.by.Settings(table, common.MostSettings)
					add(source{table, text, err, by}, fact.ListPostfixTable, nil)
				}
			}
			add(from, f.Kind, f.Keep)
		}
	}
	programs := knownOf(env, held)
	if env.Deep {
		programs = env.Registry().All()
	}
	for _, p := range programs {
		if _, holds := holding(p, held); len(p.Settings.Lists) > 0 && (holds || env.Deep) {
			for _, l := range lists(p, held[p.Name]) {
				add(l.source, fact.ListAddresses, nil)
				if n := len(a.Files) - 1; n >= 0 && a.Files[n].Path == l.path &&
					a.Files[n].Kind == fact.ListAddresses {
					a.Files[n].Program, a.Files[n].Order, a.Files[n].Else, a.Files[n].Lines = p.Name, l.Order, l.Else,
						l.lines
				}
			}
		}
	}
	for name, question := range questions {
		if pid := held[name]; pid != 0 && sameRoot(pid) {
			f, err := mysqlAccounts(ctx, name, question, pid)
			if err != nil {
				emit(
					env.Failed(
						order,
						"the accounts of "+name,
						"could not ask the database for its accounts",
						err,
						"root, and its administrator without a secret over its local socket",
					),
				)
				continue
			}
			a.Files = append(a.Files, f)
		}
	}
	if env.Card != nil && env.Card.AllowList != "" {
		text, by, err := env.CardBy.Settings(env.Card.AllowList, common.MostSettings)
		add(source{env.Card.AllowList, text, err, by}, fact.ListOfCard, nil)
	}
	saw, asked := fmt.Sprintf(
		"%d files",
		len(a.Files),
	), slices.IndexFunc(
		a.Files,
		func(f fact.AccessFile) bool { return f.Kind == fact.ListMySQL },
	)
	if asked >= 0 {
		saw = fmt.Sprintf("%d files, and %s", len(a.Files)-1, a.Files[asked].Path)
	}
	f := env.Seen(order, "access lists", saw)
	f.Access = &a
	emit(f)
}

// list is a list of addresses of one of the common shapes, in one file.
type list struct {
	source
	program.List
	lines []fact.Line
}

// lists is the lists of addresses in a program's settings. Where several files
// say something of one list, it is the whole of them together.
func lists(p program.Program, pid int) []list {
	var all []list
	for _, shape := range p.Settings.Lists {
		found := list{List: shape}
		for _, from := range settingsOf(p, pid) {
			if from.err != nil {
				all = append(all, list{source: from, List: shape}) // said to be unread
				continue
			}
			values, err := settingsfile.Read(string(from.text), p.Settings.Grammar)
			if err != nil {
				continue // the program reads it no better
			}
			if lines := shape.ListedIn(values); len(lines) > 0 || found.path == "" {
				found.source, found.lines = from, append(found.lines, lines...)
			}
		}
		if found.path != "" {
			all = append(all, found)
		}
	}
	return all
}

// unfolded is a text whose lines go on in those that begin with a blank.
func unfolded(text []byte) []byte {
	return regexp.MustCompile(`\r?\n[ \t]+`).
		ReplaceAll(regexp.MustCompile(`(?m)^\s*#.*\n`).ReplaceAll(text, nil), []byte(" "))
}

// access is the lines of a file that bear on addresses, as far as they are
// known to hold no secret.
func (s source) access(kind string, pattern *regexp.Regexp) (fact.AccessFile, error) {
	f := fact.AccessFile{Path: s.path, Kind: kind, Lines: []fact.Line{}}
	if s.err != nil {
		return f, s.err
	}
	info, err := os.Stat(s.path)
	if err != nil {
		return f, err
	}
	f.Changed = info.ModTime().UTC()
	number := 0
	for line := range strings.Lines(string(s.text)) {
		number++
		if len(f.Lines) == mostLines {
			return f, fmt.Errorf("more than %d lines", mostLines)
		}
		if line = strings.TrimRight(line, "\r\n"); pattern != nil && !pattern.MatchString(line) {
			continue
		}
		if line = keep.Line(kind, line); line != "" {
			f.Lines = append(f.Lines, fact.Line{Number: number, Text: line})
		}
	}
	return f, nil
}

// programsOn is the programs that hold a port, with their processes.
func programsOn(ctx context.Context, env look.Env, port uint16) map[string]int {
	held := map[string]int{}
	Listeners(ctx, env, fact.Order{Look: fact.LookListeners, Target: fact.Target{Port: port}}, func(f fact.Fact) {
		if f.Listeners == nil {
			return
		}
		for _, l := range f.Listeners.On("tcp", port) {
			if l.PID != 0 && l.Program != "" {
				held[l.Program] = l.PID
			}
		}
	})
	return held
}

// wrapped reports whether a program is linked to the wrapper's library.
func wrapped(path string) bool {
	f, err := elf.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	libraries, err := f.ImportedLibraries()
	return err == nil &&
		slices.ContainsFunc(libraries, func(name string) bool { return strings.HasPrefix(name, "libwrap.so") })
}
