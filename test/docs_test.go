package test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// pages is the README, and every page that people read.
func pages(t *testing.T) []string {
	list, err := filepath.Glob("../docs/*.md")
	if err != nil || len(list) == 0 {
		t.Fatal(list, err)
	}
	return append(list, "../README.md", "../CONTRIBUTING.md")
}

// heading turns a heading into the name by which links reach it.
func heading(line string) string {
	kept := regexp.MustCompile(`[^\p{L}\p{N} _-]`).
		ReplaceAllString(strings.ToLower(strings.TrimSpace(strings.TrimLeft(line, "#"))), "")
	return strings.ReplaceAll(kept, " ", "-")
}

// TestLinks follows every link of the pages within the project.
func TestLinks(t *testing.T) {
	t.Parallel()
	link := regexp.MustCompile(`\]\(([^)\s]+)\)`)
	for _, page := range pages(t) {
		for _, m := range link.FindAllStringSubmatch(readFile(t, page), -1) {
			file, anchor, _ := strings.Cut(m[1], "#")
			at := filepath.Join(filepath.Dir(page), file)
			if file == "" {
				at = page
			}
			if _, err := os.Stat(at); err != nil {
				t.Errorf("%s: %s leads nowhere", page, m[1])
				continue
			}
			if anchor == "" {
				continue
			}
			found := false
			for line := range strings.Lines(readFile(t, at)) {
				found = found || strings.HasPrefix(line, "#") && heading(line) == anchor
			}
			if !found {
				t.Errorf("%s: %s has no such heading", page, m[1])
			}
		}
	}
	if lines := strings.Count(readFile(t, "../README.md"), "\n"); lines >= 250 {
		t.Errorf("the README has %d lines", lines)
	}
}

// TestPictures sees that the README leads to every picture that is kept.
func TestPictures(t *testing.T) {
	t.Parallel()
	pictures, err := filepath.Glob("../docs/screenshots/*.png")
	if err != nil || len(pictures) == 0 || len(pictures) >= 20 {
		t.Fatal(len(pictures), err)
	}
	readme := readFile(t, "../README.md")
	for _, picture := range pictures {
		if !strings.Contains(readme, strings.TrimPrefix(filepath.ToSlash(picture), "../")) {
			t.Errorf("the README does not lead to %s", picture)
		}
	}
}

// TestWrittenCommands takes every command line that the pages show, and sees that
// its command and its flags are there.
func TestWrittenCommands(t *testing.T) {
	t.Parallel()
	shown := regexp.MustCompile("(?m)^(?: {4,}|\\$ | *\\$ )(?:\\$ )?(uakari .*)$|`(uakari [a-z][^`]*)`")
	flag := regexp.MustCompile(`(?:^|\s)(--?[a-z][a-z-]*)`)
	help := map[string]string{}
	seen := 0
	for _, page := range pages(t) {
		for _, m := range shown.FindAllStringSubmatch(readFile(t, page), -1) {
			line, _, _ := strings.Cut(strings.ReplaceAll(m[1]+m[2], "\\|", "|"), " #")
			line, _, _ = strings.Cut(line, " | ")
			words := strings.Fields(line)[1:]
			for _, name := range strings.Split(words[0], "|") {
				if strings.ToUpper(name) == name { // "uakari COMMAND"
					continue
				}
				args := []string{name, "--help"}
				if slices.Contains([]string{"case", "card", "sheet", "config"}, name) && len(words) > 1 && !strings.Contains(words[1], "|") &&
					words[1] != strings.ToUpper(words[1]) {
					args = []string{name, words[1], "--help"}
				}
				key := strings.Join(args, " ")
				if help[key] == "" {
					r := run(t, args...)
					if r.status != 0 || !strings.Contains(r.stdout, "uakari "+strings.TrimSuffix(key, " --help")) {
						t.Errorf("%s: %s: there is no such command: %+v", page, line, r)
						continue
					}
					help[key] = r.stdout
				}
				seen++
				for _, f := range flag.FindAllStringSubmatch(line, -1) {
					if !regexp.MustCompile(`(?m)(^|[ ,])` + f[1] + `\b`).MatchString(help[key]) {
						t.Errorf("%s: %s: %s has no flag %s", page, line, strings.TrimSuffix(key, " --help"), f[1])
					}
				}
			}
		}
	}
	if seen < 40 {
		t.Errorf("only %d commands were found", seen)
	}
}
