package common

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
)

// Signs leaves the marks of health that the card names, as this side has them.
func Signs(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	if env.Card == nil {
		emit(env.Failed(order, "card", "could not look at signs", errors.New("there is no card"), "--card FILE"))
		return
	}
	s := fact.Signs{Side: order.Target.Name, List: []fact.SignSeen{}}
	wrong := 0
	for _, sign := range env.Card.Signs {
		if sign.On != s.Side {
			continue
		}
		seen := fact.SignSeen{Sign: sign}
		if sign.Folder != "" {
			seen.Wrong = wrongFolder(sign, env.Clock())
		} else {
			seen.Wrong = wrongFile(sign, env.Clock())
		}
		if seen.Wrong != "" {
			wrong++
		}
		s.List = append(s.List, seen)
	}
	f := env.Seen(
		order,
		"signs on the "+s.Side,
		fmt.Sprintf("%d of %d are as they should be", len(s.List)-wrong, len(s.List)),
	)
	f.Signs = &s
	emit(f)
}

// stale says that something was not written lately enough; "" if it was.
func stale(what, fresh string, changed, now time.Time) string {
	d, err := time.ParseDuration(fresh)
	if err != nil || now.Sub(changed) <= d {
		return ""
	}
	return fmt.Sprintf(
		"%s was last written %s ago, and should be within %s",
		what,
		now.Sub(changed).Round(time.Second),
		fresh,
	)
}

func wrongFolder(s fact.Sign, now time.Time) string {
	entries, err := os.ReadDir(s.Folder)
	if err != nil {
		return Unwrapped(err)
	}
	files, today := 0, 0
	var newest time.Time
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || info.IsDir() {
			continue
		}
		files++
		if info.ModTime().Format(time.DateOnly) == now.Format(time.DateOnly) {
			today++
		}
		if info.ModTime().After(newest) {
			newest = info.ModTime()
		}
	}
	switch {
	case files < s.AtLeast:
		return fmt.Sprintf("%s holds %d files, and should hold at least %d", s.Folder, files, s.AtLeast)
	case s.AtMost > 0 && today > s.AtMost:
		return fmt.Sprintf("%s has %d files of today, and more than %d mean restarts", s.Folder, today, s.AtMost)
	case s.Fresh != "" && files > 0:
		return stale(s.Folder, s.Fresh, newest, now)
	}
	return ""
}

func wrongFile(s fact.Sign, now time.Time) string {
	paths, err := filepath.Glob(atHome(s.File))
	if err != nil || len(paths) == 0 {
		return "there is no file " + s.File
	}
	path := paths[len(paths)-1]
	info, err := os.Stat(path)
	if err != nil {
		return Unwrapped(err)
	}
	if text := stale(path, s.Fresh, info.ModTime(), now); s.Fresh != "" && text != "" {
		return text
	}
	if s.LastLine == "" && s.Must == "" && s.MustNot == "" {
		return ""
	}
	text, err := file.Tail(path, MostSettings)
	if err != nil {
		return Unwrapped(err)
	}
	lines := strings.Split(strings.TrimRight(string(text), "\n"), "\n")
	if last := lines[len(lines)-1]; s.LastLine != "" && !strings.Contains(last, s.LastLine) {
		return fmt.Sprintf("the last line of %s lacks %q", path, s.LastLine)
	}
	when := ""
	if within, err := time.ParseDuration(s.Within); err == nil {
		lines, when = younger(lines, now.Add(-within), now), " of the last "+s.Within
	}
	if s.Must != "" && !anyMatches(s.Must, lines) {
		return fmt.Sprintf("no line of %s%s matches %q", path, when, s.Must)
	}
	if s.MustNot != "" && anyMatches(s.MustNot, lines) {
		return fmt.Sprintf("a line of %s%s matches %q", path, when, s.MustNot)
	}
	return ""
}

// stamps is how logs write the time at the beginning of a line: of ISO 8601,
// with an offset or in the host's own time, of syslog, and of web servers.
var stamps = []struct {
	layout string
	length int
}{
	{time.RFC3339, 25},
	{time.RFC3339, 20},
	{"2006-01-02T15:04:05", 19},
	{"2006-01-02 15:04:05", 19},
	{"2006/01/02 15:04:05", 19},
	{"Jan _2 15:04:05", 15},
	{"02/Jan/2006:15:04:05 -0700", 26},
}

// stampOf is the time that a line begins with, as a host in this place of the
// world wrote it.
func stampOf(line string, now time.Time) (time.Time, bool) {
	line = strings.TrimLeft(line, "[( \t")
	for _, s := range stamps {
		if len(line) < s.length {
			continue
		}
		at, err := time.ParseInLocation(s.layout, line[:s.length], now.Location())
		if err != nil {
			continue
		}
		if at.Year() == 0 { // syslog leaves the year out
			if at = at.AddDate(now.Year(), 0, 0); at.After(now.Add(24 * time.Hour)) {
				at = at.AddDate(-1, 0, 0)
			}
		}
		return at, true
	}
	return time.Time{}, false
}

// younger is the lines that were written since a time. One that has no time
// of its own belongs to the one before it; what comes before any time is old.
func younger(lines []string, since, now time.Time) []string {
	var list []string
	young := false
	for _, line := range lines {
		if at, ok := stampOf(line, now); ok {
			young = !at.Before(since)
		}
		if young {
			list = append(list, line)
		}
	}
	return list
}

func anyMatches(pattern string, lines []string) bool {
	re, err := regexp.Compile(pattern)
	if err != nil {
		return false // the card was checked
	}
	for _, line := range lines {
		if re.MatchString(line) {
			return true
		}
	}
	return false
}

// unwrapped is an error of a file in few words.
func Unwrapped(err error) string {
	var p *os.PathError
	if errors.As(err, &p) {
		return p.Path + ": " + p.Err.Error()
	}
	return err.Error()
}
