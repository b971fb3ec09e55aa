package common

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/redact"
	"uakari/internal/settingsfile"
)

// Events is the newest lines of an event log of this system, the oldest first;
// nil where there is none.
var Events func(ctx context.Context, log string) ([]fact.LogLine, error)

// Signs leaves the marks of health that the card names, as this side has them.
func Signs(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	if env.Card == nil {
		emit(env.Failed(order, "card", "could not look at signs", errors.New("there is no card"), "--card FILE"))
		return
	}
	s := fact.Signs{Side: order.Target.Name, List: []fact.SignSeen{}}
	wrong, unread := 0, []string(nil)
	for _, sign := range env.Card.Signs {
		if sign.On != s.Side {
			continue
		}
		seen := fact.SignSeen{Sign: sign}
		var faults []string
		switch {
		case sign.Events != "" && Events == nil:
			seen.Unread = "no event log on " + runtime.GOOS
		case sign.Events != "":
			lines, err := Events(ctx, sign.Events)
			if err != nil {
				seen.Unread = fmt.Sprintf("the event log %s: %v", sign.Events, err)
				break
			}
			faults = wrongEvents(sign, lines, env.Clock())
		case sign.Folder != "":
			faults = wrongFolder(sign, env.Clock())
		default:
			faults = wrongFile(sign, env.Clock())
		}
		if seen.Wrong = strings.Join(faults, "; "); seen.Wrong != "" {
			wrong++
		}
		if seen.Unread != "" {
			unread = append(unread, seen.Unread)
		}
		s.List = append(s.List, seen)
	}
	f := env.Seen(
		order,
		"signs on the "+s.Side,
		strings.Join(
			append(
				[]string{fmt.Sprintf("%d of %d are as they should be", len(s.List)-wrong-len(unread), len(s.List))},
				unread...),
			"; ",
		),
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
		foreign.Span(now.Sub(changed)),
		fresh,
	)
}

// wrongFolder is everything about a folder that is not as the sign wants it.
func wrongFolder(s fact.Sign, now time.Time) []string {
	entries, err := os.ReadDir(s.Folder)
	if err != nil {
		return []string{Unwrapped(err)}
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
	var list []string
	if files < s.AtLeast {
		list = append(
			list,
			fmt.Sprintf("%s holds %s, and should hold at least %d", s.Folder,
				foreign.Plural(files, "file"), s.AtLeast),
		)
	}
	if s.AtMost > 0 && today > s.AtMost {
		list = append(
			list,
			fmt.Sprintf("%s has %d files of today, and more than %d mean restarts", s.Folder, today, s.AtMost),
		)
	}
	if text := stale(s.Folder, s.Fresh, newest, now); text != "" && files > 0 {
		list = append(list, text)
	}
	return list
}

// wrongFile is everything about a file that is not as the sign wants it.
func wrongFile(s fact.Sign, now time.Time) []string {
	paths, err := filepath.Glob(atHome(s.File))
	if err != nil || len(paths) == 0 {
		return []string{"there is no file " + s.File}
	}
	path := paths[len(paths)-1]
	info, err := os.Stat(path)
	if err != nil {
		return []string{Unwrapped(err)}
	}
	var list []string
	if text := stale(path, s.Fresh, info.ModTime(), now); text != "" {
		list = append(list, text)
	}
	if s.LastLine == "" && s.Must == "" && s.MustNot == "" {
		return list
	}
	text, err := tailText(path)
	if err != nil {
		return append(list, Unwrapped(err))
	}
	lines := strings.Split(strings.TrimRight(text, "\r\n"), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], "\r")
	}
	if last := lines[len(lines)-1]; s.LastLine != "" && !strings.Contains(last, s.LastLine) {
		list = append(list, fmt.Sprintf("the last line of %s is %s and lacks %q", path, quotedLine(path, last),
			s.LastLine))
	}
	when := ""
	if within, err := time.ParseDuration(s.Within); err == nil {
		lines, when = younger(lines, now.Add(-within), now), " of the last "+s.Within
	}
	return append(list, wrongLines(s, path, path, when, lines)...)
}

// wrongLines is what lines lack of what must be there, and hold of what must
// not; of is the file that they are of, "" for none.
func wrongLines(s fact.Sign, path, of, when string, lines []string) []string {
	var list []string
	if s.Must != "" && len(matching(s.Must, lines)) == 0 {
		list = append(list, fmt.Sprintf("no line of %s%s matches %q, of %d", path, when, s.Must, len(lines)))
	}
	if bad := matching(s.MustNot, lines); s.MustNot != "" && len(bad) > 0 {
		which := "a line"
		if len(bad) > 1 {
			which = fmt.Sprintf("%d lines", len(bad))
		}
		list = append(
			list,
			fmt.Sprintf("%s of %s%s should not be there, such as %s", which, path, when,
				quotedLine(of, bad[len(bad)-1])),
		)
	}
	return list
}

// wrongEvents is everything about an event log that is not as the sign wants
// it.
func wrongEvents(s fact.Sign, events []fact.LogLine, now time.Time) []string {
	var lines []string
	within, err := time.ParseDuration(s.Within)
	when := ""
	if err == nil {
		when = " of the last " + s.Within
	}
	var newest time.Time
	for _, e := range events {
		if e.At.After(newest) {
			newest = e.At
		}
		if when == "" || now.Sub(e.At) <= within {
			lines = append(lines, e.Text)
		}
	}
	var list []string
	if text := stale("the event log "+s.Events, s.Fresh, newest, now); text != "" && len(events) > 0 {
		list = append(list, text)
	}
	return append(list, wrongLines(s, "the event log "+s.Events, "", when, lines)...)
}

// quotedLine is a line as it may be told: of what is no log by its name nothing
// is, since it may hold secrets that no word gives away.
func quotedLine(path, line string) string {
	const most = 120
	if !redact.LogFile(filepath.ToSlash(path)) && path != "" {
		return "another (not kept, since it is no log by its name)"
	}
	return fmt.Sprintf("%q", foreign.CleanTo(redact.LogLine(strings.TrimSpace(line)), most))
}

// tailText is the end of a file as text, whatever its first bytes say that it
// is written in.
func tailText(path string) (string, error) {
	tail, err := file.Tail(path, MostSettings)
	if err != nil {
		return "", err
	}
	head, err := file.Head(path, 2)
	if err != nil {
		return "", err
	}
	if mark := string(head); (mark == "\xff\xfe" || mark == "\xfe\xff") && !strings.HasPrefix(string(tail), mark) {
		tail = append(head, tail...) // the end alone has no mark, and begins at an even place
	}
	return settingsfile.Decode(tail), nil
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

// matching is the lines that an expression matches; none if it is empty.
func matching(pattern string, lines []string) []string {
	re, err := regexp.Compile(pattern)
	if err != nil || pattern == "" {
		return nil // the card was checked
	}
	return slices.DeleteFunc(slices.Clone(lines), func(line string) bool { return !re.MatchString(line) })
}

// Unwrapped is an error of a file in few words.
func Unwrapped(err error) string {
	var p *os.PathError
	if errors.As(err, &p) {
		return p.Path + ": " + p.Err.Error()
	}
	return err.Error()
}
