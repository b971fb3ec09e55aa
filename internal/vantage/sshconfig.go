package vantage

import (
	"bufio"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
)

// sshSettings is what the user's SSH settings say for one host: the first
// value of each keyword wins, but IdentityFile adds up (ssh_config(5)). It is
// read here because the library at hand costs more at each start than the
// rest of the program.
type sshSettings map[string][]string

// first is the first value of a keyword, in lower case; "" for none.
func (s sshSettings) first(keyword string) string {
	if values := s[keyword]; len(values) > 0 {
		return values[0]
	}
	return ""
}

// settingsFor reads the settings for a host name as typed, the user's own
// before the system's.
func settingsFor(host string) sshSettings {
	s := sshSettings{}
	s.read(home("~/.ssh/config"), host, 0)
	s.read("/etc/ssh/ssh_config", host, 0)
	return s
}

// Bounds on settings: bytes of one file, and files within files.
const (
	mostSSHConfig   = 1 << 20
	mostSSHIncludes = 8
)

// read reads one file. A file that is not there says nothing; neither does a
// Match block, whose conditions are not understood here.
func (s sshSettings) read(file, host string, depth int) {
	f, err := os.Open(file)
	if err != nil {
		return
	}
	defer f.Close()
	applies := true
	for scan := bufio.NewScanner(io.LimitReader(f, mostSSHConfig)); scan.Scan(); {
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
				if pattern = home(pattern); !filepath.IsAbs(pattern) {
					pattern = filepath.Join(filepath.Dir(file), pattern)
				}
				matches, err := filepath.Glob(pattern)
				if err != nil {
					continue
				}
				for _, each := range matches {
					s.read(each, host, depth+1)
				}
			}
		case keyword == "identityfile" || len(s[keyword]) == 0:
			s[keyword] = append(s[keyword], values...)
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
		if ok, err := path.Match(bare, host); err == nil && ok {
			if negated {
				return false
			}
			found = true
		}
	}
	return found
}
