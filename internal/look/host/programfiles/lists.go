package programfiles

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/program"
	"uakari/internal/redact"
	"uakari/internal/settingsfile"
)

// sources is the files of this kind, as the program that holds the port was
// told of them, or in the usual places.
func (h *Host) sources(f program.OwnList, held map[string]int) []Source {
	for _, name := range f.Programs {
		pid := held[name]
		if pid == 0 {
			continue
		}
		if h.Apart(pid) {
			return nil
		}
		paths := h.Named(Shipped(name), pid)
		if len(paths) == 0 {
			break
		}
		if f.Kind == fact.ListHBA {
			text, by, err := h.Account(pid).Settings(paths[0], common.MostSettings)
			if err != nil {
				return []Source{{Path: paths[0], Err: err}}
			}
			return WithIncluded([]string{h.listOfPostgres(Shipped(name), pid, paths[0], text)}, by)
		}
		return WithIncluded(paths, h.Account(pid))
	}
	paths := Matching(f.Globs)
	for _, name := range f.Programs {
		if pid, holds := held[name]; holds && len(paths) == 0 && f.Kind != fact.ListHBA {
			paths = h.Usual(Shipped(name), pid)
		}
	}
	return WithIncluded(paths, file.Account{})
}

// listOfPostgres is the access list that a PostgreSQL was started with, or that
// its settings name, or the one beside them.
func (h *Host) listOfPostgres(p program.Program, pid int, path string, text []byte) string {
	for _, each := range h.Started(p, pid) {
		for _, flag := range []string{"hba_file=", "--hba_file=", "--hba-file=", "-chba_file="} {
			for _, arg := range slices.Backward(each.Args) {
				if named, ok := strings.CutPrefix(arg, flag); ok {
					return named
				}
			}
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
func (h *Host) Access(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	a := fact.Access{Files: []fact.AccessFile{}}
	held := h.On(ctx, env, order.Target.Port)
	add := func(from Source, kind string, pattern *regexp.Regexp) {
		f, err := from.access(kind, pattern)
		switch {
		case errors.Is(err, os.ErrNotExist):
		case err != nil:
			emit(env.Failed(order, from.Path, "could not read an access list", err, "root"))
		default:
			a.Files = append(a.Files, f)
		}
	}
	for _, f := range program.OwnLists() {
		if f.Programs != nil && !env.Deep &&
			!slices.ContainsFunc(f.Programs, func(p string) bool { _, ok := held[p]; return ok }) {
			continue
		}
		for _, from := range h.sources(f, held) {
			if f.Kind == fact.ListPostfix {
				from.Text = unfolded(from.Text)
				for _, table := range program.PostfixTables(string(from.Text)) {
					text, by, err := from.By.Settings(table, common.MostSettings)
					add(Source{table, text, err, by}, fact.ListPostfixTable, nil)
				}
			}
			add(from, f.Kind, f.Keep)
		}
	}
	programs := KnownOf(env, held)
	if env.Deep {
		programs = env.Registry().All()
	}
	for _, p := range programs {
		if _, holds := Holding(p, held); len(p.Settings.Lists) > 0 && (holds || env.Deep) {
			for _, l := range h.lists(p, held[p.Name]) {
				add(l.Source, fact.ListAddresses, nil)
				if n := len(a.Files) - 1; n >= 0 && a.Files[n].Path == l.Path &&
					a.Files[n].Kind == fact.ListAddresses {
					a.Files[n].Program, a.Files[n].Order, a.Files[n].Else, a.Files[n].Lines = p.Name, l.Order, l.Else,
						l.lines
				}
			}
		}
	}
	a.Files = append(a.Files, h.byWords(ctx, env, held)...)
	h.Asked(ctx, env, order, held, &a, emit)
	if env.Card != nil && env.Card.AllowList != "" {
		text, by, err := env.CardBy.Settings(env.Card.AllowList, common.MostSettings)
		add(Source{env.Card.AllowList, text, err, by}, fact.ListOfCard, nil)
	}
	saw, asked := fmt.Sprintf(
		"%d files",
		len(a.Files),
	), slices.IndexFunc(
		a.Files,
		func(f fact.AccessFile) bool { return f.Kind == fact.ListMySQL },
	)
	if asked >= 0 {
		files := slices.DeleteFunc(slices.Clone(a.Files), func(f fact.AccessFile) bool {
			return f.Kind == fact.ListMySQL || f.Kind == fact.ListMySQLRights
		})
		saw = fmt.Sprintf("%d files, and %s", len(files), a.Files[asked].Path)
	}
	f := env.Seen(order, "access lists", saw)
	f.Access = &a
	emit(f)
}

// byWords is what the settings of programs that hold the port, and of whose lists nobody
// knows, say of addresses by their words alone: the files that are theirs, and the words
// with which they were started.
func (h *Host) byWords(ctx context.Context, env look.Env, held map[string]int) (files []fact.AccessFile) {
	for name, pid := range held {
		row, known := env.Registry().Of(name)
		own := func(l program.OwnList) bool { return slices.Contains(l.Programs, name) }
		if known && len(row.Settings.Lists) > 0 || slices.ContainsFunc(program.OwnLists(), own) || h.Own == nil ||
			h.Apart(pid) {
			continue
		}
		take := func(path, text string, changed time.Time) {
			if lines := program.ByWords(text); len(lines) > 0 {
				files = append(files, fact.AccessFile{
					Path: path, Kind: fact.ListByWords, Program: name, Order: "allow", Changed: changed, Lines: lines,
				})
			}
		}
		for _, path := range h.Own(ctx, pid) {
			info, err := os.Stat(path)
			if err != nil {
				continue
			}
			if text, _, err := h.Account(pid).Settings(path, common.MostSettings); err == nil {
				take(path, string(text), info.ModTime().UTC())
			}
		}
		for _, each := range h.Started(program.Program{Name: name}, pid) {
			words := strings.Join(each.Args[min(1, len(each.Args)):], " ")
			take("the command of "+name, strings.NewReplacer(",", "\n", " ", "\n").Replace(words), time.Time{})
		}
	}
	return files
}

// list is a list of addresses of one of the common shapes, in one file.
type list struct {
	Source
	program.List
	lines []fact.Line
}

// lists is the lists of addresses in a program's settings. Where several files
// say something of one list, it is the whole of them together.
func (h *Host) lists(p program.Program, pid int) []list {
	var all []list
	for _, shape := range p.Settings.Lists {
		found := list{List: shape}
		for _, from := range h.SettingsOf(p, pid) {
			if from.Err != nil {
				all = append(all, list{Source: from, List: shape}) // said to be unread
				continue
			}
			values, err := settingsfile.Read(string(from.Text), p.Settings.Grammar)
			if err != nil {
				continue // the program reads it no better
			}
			if lines := shape.ListedIn(values); len(lines) > 0 || found.Path == "" {
				found.Source, found.lines = from, append(found.lines, lines...)
			}
		}
		if found.Path != "" {
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
func (s Source) access(kind string, pattern *regexp.Regexp) (fact.AccessFile, error) {
	f := fact.AccessFile{Path: s.Path, Kind: kind, Lines: []fact.Line{}}
	if s.Err != nil {
		return f, s.Err
	}
	info, err := os.Stat(s.Path)
	if err != nil {
		return f, err
	}
	f.Changed = info.ModTime().UTC()
	number := 0
	for line := range strings.Lines(string(s.Text)) {
		number++
		if len(f.Lines) == mostLines {
			return f, fmt.Errorf("more than %d lines", mostLines)
		}
		if line = strings.TrimRight(line, "\r\n"); pattern != nil && !pattern.MatchString(line) {
			continue
		}
		if line = redact.Line(kind, line); line != "" {
			f.Lines = append(f.Lines, fact.Line{Number: number, Text: line})
		}
	}
	return f, nil
}
