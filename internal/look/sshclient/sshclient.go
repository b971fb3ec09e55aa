// Package sshclient reads the settings of this user's SSH client.
package sshclient

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"uakari/internal/look/file"
)

// Settings is what the user's SSH settings say for one host, by keywords in
// lower case: the first value of each wins, but IdentityFile adds up
// (ssh_config(5)). It is read here because the library at hand costs more at
// each start than the rest of the program.
type Settings struct {
	values map[string][]string
	places map[string]string
}

// All is the values of a keyword.
func (s Settings) All(keyword string) []string { return s.values[keyword] }

// First is the first value of a keyword; "" for none.
func (s Settings) First(keyword string) string {
	if values := s.values[keyword]; len(values) > 0 {
		return values[0]
	}
	return ""
}

// Place is where a keyword's value stands: "/root/.ssh/config:3".
func (s Settings) Place(keyword string) string { return s.places[keyword] }

// For reads the settings for a host name as typed, the user's own before the
// system's.
func For(host string) Settings {
	s := Settings{map[string][]string{}, map[string]string{}}
	s.read(Home("~/.ssh/config"), host, 0)
	s.read("/etc/ssh/ssh_config", host, 0)
	return s
}

// Home puts the user's home in place of "~/".
func Home(path string) string {
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		if dir, err := os.UserHomeDir(); err == nil {
			return filepath.Join(dir, rest)
		}
	}
	return path
}

// Bounds on settings: bytes of one file, and files within files.
const (
	mostSSHConfig   = 1 << 20
	mostSSHIncludes = 8
)

// read reads one file. A file that is not there says nothing; neither does a
// Match block, whose conditions are not understood here.
func (s Settings) read(path, host string, depth int) {
	f, err := file.Open(path)
	if err != nil {
		return
	}
	defer f.Close()
	applies, number := true, 0
	for scan := bufio.NewScanner(io.LimitReader(f, mostSSHConfig)); scan.Scan(); {
		number++
		keyword, values := sshLine(scan.Text())
		switch {
		case len(values) == 0:
		case keyword == "host":
			applies = hostMatches(values, host)
		case keyword == "match":
			applies = len(values) == 1 && strings.EqualFold(values[0], "all")
		case !applies:
		case keyword == "include" && depth < mostSSHIncludes:
			for _, pattern := range values {
				if pattern = Home(pattern); !filepath.IsAbs(pattern) {
					pattern = filepath.Join(filepath.Dir(path), pattern)
				}
				matches, err := filepath.Glob(pattern)
				if err != nil {
					continue
				}
				for _, each := range matches {
					s.read(each, host, depth+1)
				}
			}
		case keyword == "identityfile" || len(s.values[keyword]) == 0:
			if s.places[keyword] == "" {
				s.places[keyword] = fmt.Sprintf("%s:%d", path, number)
			}
			s.values[keyword] = append(s.values[keyword], values...)
		}
	}
}

// sshLine splits a line into keyword and values; an equals sign may stand
// between them, and quotes around a value.
func sshLine(line string) (string, []string) {
	line = strings.TrimSpace(line)
	if line == "" || line[0] == '#' {
		return "", nil
	}
	at := strings.IndexAny(line, " \t=")
	if at < 0 {
		return strings.ToLower(line), nil
	}
	rest := strings.TrimLeft(line[at:], " \t=")
	if strings.HasPrefix(rest, `"`) {
		value, _, _ := strings.Cut(rest[1:], `"`)
		return strings.ToLower(line[:at]), []string{value}
	}
	return strings.ToLower(line[:at]), strings.Fields(rest)
}

// hostMatches reports whether a Host line applies: some pattern matches, and
// none that begins with an exclamation mark.
func hostMatches(patterns []string, host string) bool {
	found := false
	for _, p := range patterns {
		bare, negated := strings.CutPrefix(p, "!")
		if ok, err := filepath.Match(bare, host); err == nil && ok {
			if negated {
				return false
			}
			found = true
		}
	}
	return found
}
