package host

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"uakari/internal/fact"
)

// accessRules is the rules by which PAM lets accounts in from places
// (access.conf(5)), where the service asks for them at all, and the file that
// they are in.
func accessRules(service string) (path string, rules []fact.Line) {
	path = pamAccess("/etc/pam.d/"+service, 0)
	if path == "" {
		return "", nil
	}
	files := []string{path}
	if path == usualAccess {
		more, err := filepath.Glob("/etc/security/access.d/*.conf")
		if err == nil {
			files = append(files, more...)
		}
	}
	for _, file := range files {
		text, err := readSome(file)
		if err != nil {
			continue // then there are none in it
		}
		number := 0
		for line := range strings.Lines(string(text)) {
			number++
			if line = strings.TrimSpace(line); line != "" && line[0] != '#' && len(rules) < mostAccounts {
				rules = append(rules, fact.Line{Number: number, Text: line})
			}
		}
	}
	return path, rules
}

const usualAccess = "/etc/security/access.conf"

// pamAccess is the file of rules that a service's stack names, through what it
// includes; "" if it asks for none.
func pamAccess(file string, depth int) string {
	const deepest = 5
	text, err := os.ReadFile(file)
	if err != nil || depth > deepest {
		return ""
	}
	for line := range strings.Lines(string(text)) {
		line, _, _ = strings.Cut(line, "#")
		words := strings.Fields(line)
		for i, w := range words {
			switch {
			case strings.HasSuffix(w, "pam_access.so"):
				for _, option := range words[i+1:] {
					if own, ok := strings.CutPrefix(option, "accessfile="); ok {
						return own
					}
				}
				return usualAccess
			case (w == "@include" || w == "include" || w == "substack") && i+1 < len(words):
				if found := pamAccess(fmt.Sprintf("/etc/pam.d/%s", words[i+1]), depth+1); found != "" {
					return found
				}
			}
		}
	}
	return ""
}
