//go:build linux

package linux

import (
	"fmt"
	"path/filepath"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look/host/common"
	"uakari/internal/look/host/programfiles"
)

// accessRules is the rules by which PAM lets accounts in from places
// (access.conf(5)), where the service asks for them at all, and the file that
// they are in.
func accessRules(service string) (path string, rules []fact.Line) {
	path = pamAccess("/etc/pam.d/"+service, 0)
	if path == "" {
		return "", nil
	}
	paths := []string{path}
	if path == usualAccess {
		more, err := filepath.Glob("/etc/security/access.d/*.conf")
		if err == nil {
			paths = append(paths, more...)
		}
	}
	for _, each := range paths {
		text, err := common.ReadSome(each)
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

// asksPAM reports whether sshd asks PAM at all: it does not unless its settings
// say so (sshd_config(5)), and where they say both, nobody here knows.
func asksPAM(settings []programfiles.Source) bool {
	yes, no := false, false
	for _, from := range settings {
		if from.Err != nil {
			return false
		}
		for line := range strings.Lines(string(from.Text)) {
			if words := strings.Fields(line); len(words) > 1 && strings.EqualFold(words[0], "UsePAM") {
				yes, no = yes || strings.EqualFold(words[1], "yes"), no || strings.EqualFold(words[1], "no")
			}
		}
	}
	return yes && !no
}

const usualAccess = "/etc/security/access.conf"

// pamAccess is the file of rules that a service's stack names, through what it
// includes; "" if it asks for none.
func pamAccess(stack string, depth int) string {
	const deepest = 5
	text, err := common.ReadSome(stack)
	if err != nil || depth > deepest {
		return ""
	}
	for line := range strings.Lines(string(text)) {
		line, _, _ = strings.Cut(line, "#")
		words := strings.Fields(line)
		for i, w := range words {
			switch {
			case strings.HasSuffix(w, "pam_access.so"):
				if i == 0 || words[i-1] != "required" && words[i-1] != "requisite" {
					return "" // others of the stack may decide in its place
				}
				path := usualAccess
				for _, option := range words[i+1:] {
					own, ok := strings.CutPrefix(option, "accessfile=")
					switch {
					case ok:
						path = own
					case option != "debug" && option != "noaudit":
						return "" // it changes how the rules are read
					}
				}
				return path
			case (w == "@include" || w == "include" || w == "substack") && i+1 < len(words):
				if found := pamAccess(fmt.Sprintf("/etc/pam.d/%s", words[i+1]), depth+1); found != "" {
					return found
				}
			}
		}
	}
	return ""
}
