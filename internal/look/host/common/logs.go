package common

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look/file"
	"uakari/internal/redact"
	"uakari/internal/settingsfile"
)

// Bounds on what is kept of a log file.
const (
	mostTail     = 16 << 10 // bytes read from its end
	mostLogLines = 20
)

// mostLogLine is how much is kept of one line, in characters.
const mostLogLine = 500

// LogName is what somebody calls a log: a pattern, and who named it.
type LogName struct {
	Pattern string
	By      file.Account
}

// LogFiles is the ends of the newest files of some patterns. One that cannot
// be read is left out, since the journal may have it all the same; so is one
// that is no log, whoever calls it that.
func LogFiles(ctx context.Context, names []LogName) []fact.LogFile {
	var list []fact.LogFile
	for _, name := range names {
		matches, err := filepath.Glob(name.Pattern)
		if err != nil {
			continue
		}
		var newest os.FileInfo
		path := ""
		for _, m := range matches {
			if info, err := os.Stat(m); err == nil && info.Mode().IsRegular() && redact.LogFile(m) &&
				(newest == nil || info.ModTime().After(newest.ModTime())) {
				newest, path = info, m
			}
		}
		if newest == nil {
			continue
		}
		f := fact.LogFile{Path: path, Changed: newest.ModTime().UTC(), Lines: []string{}}
		if text, err := name.By.Tail(path, mostTail); err == nil {
			lines := strings.Split(strings.TrimRight(settingsfile.Decode(text), "\r\n"), "\n")
			for _, line := range lines[max(0, len(lines)-mostLogLines):] {
				f.Lines = append(f.Lines, foreign.CleanTo(LogLine(ctx, strings.TrimRight(line, "\r")), mostLogLine))
			}
		}
		list = append(list, f)
	}
	return list
}
