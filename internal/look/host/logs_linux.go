package host

import (
	"io"
	"os"
	"path/filepath"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/wire"
)

// Bounds on what is kept of a log file.
const (
	mostTail     = 16 << 10 // bytes read from its end
	mostLogLines = 20
)

// mostLogLine is how much is kept of one line, in characters.
const mostLogLine = 500

// logFiles is the ends of the newest files of some patterns. One that cannot
// be read is left out: the journal may have it all the same.
func logFiles(patterns []string) []fact.LogFile {
	var list []fact.LogFile
	for _, pattern := range patterns {
		matches, err := filepath.Glob(pattern)
		if err != nil {
			continue
		}
		var newest os.FileInfo
		path := ""
		for _, m := range matches {
			if info, err := os.Stat(m); err == nil && info.Mode().IsRegular() && (newest == nil || info.ModTime().After(newest.ModTime())) {
				newest, path = info, m
			}
		}
		if newest == nil {
			continue
		}
		f := fact.LogFile{Path: path, Changed: newest.ModTime().UTC(), Lines: []string{}}
		if text, err := tailOf(path, newest.Size()); err == nil {
			lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
			for _, line := range lines[max(0, len(lines)-mostLogLines):] {
				f.Lines = append(f.Lines, wire.CleanTo(line, mostLogLine))
			}
		}
		list = append(list, f)
	}
	return list
}

func tailOf(path string, size int64) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if _, err := f.Seek(max(0, size-mostTail), io.SeekStart); err != nil {
		return "", err
	}
	text, err := io.ReadAll(io.LimitReader(f, mostTail))
	return string(text), err
}
