package test

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"uakari/internal/card"
	"uakari/internal/fact"
	"uakari/internal/plan"
	known "uakari/internal/program"
	"uakari/internal/sheet"
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

// TestSafetyPromises finds a test for every promise of docs/safety.md, and no paragraph of
// it without one.
func TestSafetyPromises(t *testing.T) {
	t.Parallel()
	testFunc := regexp.MustCompile(`(?m)^func (Test\w+)\(`)
	tests := map[string]bool{}
	for _, dir := range []string{".", "../internal"} {
		err := filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
			if err == nil && strings.HasSuffix(path, "_test.go") {
				for _, m := range testFunc.FindAllStringSubmatch(readFile(t, path), -1) {
					tests[m[1]] = true
				}
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	rows := 0
	for line := range strings.Lines(readFile(t, "../docs/safety.md")) {
		cells := strings.Split(strings.TrimSpace(line), "|")
		if len(cells) != 4 || strings.HasPrefix(cells[1], "-") || cells[1] == " Promise " {
			continue
		}
		rows++
		named := regexp.MustCompile("`(Test[A-Za-z0-9]+)`").FindAllStringSubmatch(cells[2], -1)
		if len(named) == 0 {
			t.Errorf("no test holds %q", cells[1])
		}
		for _, m := range named {
			if !tests[m[1]] {
				t.Errorf("%q: there is no %s", cells[1], m[1])
			}
		}
	}
	const promises = 25 // of the page's paragraphs, each by itself
	if rows < promises {
		t.Errorf("%d promises have a test; expected %d at least", rows, promises)
	}
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
				if slices.Contains([]string{"case", "card", "sheet", "config"}, name) && len(words) > 1 &&
					!strings.Contains(words[1], "|") &&
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

// TestWrittenFiles reads every file that the pages show, as the program would.
func TestWrittenFiles(t *testing.T) {
	t.Parallel()
	readers := map[string]func(name string, text []byte) error{
		"uakari.card/1":  func(name string, text []byte) error { _, err := card.Parse(name, text); return err },
		"uakari.sheet/1": func(name string, text []byte) error { _, err := sheet.Parse(name, text); return err },
		"uakari.plan/1":  func(name string, text []byte) error { _, err := plan.Parse(name, text); return err },
		"uakari.program/1": func(name string, text []byte) error {
			_, err := known.With([]fact.ProgramFile{{Path: name, Text: string(text)}})
			return err
		},
		"uakari.config/1": func(name string, text []byte) error {
			path := write(t, filepath.Join(t.TempDir(), "uakari.yaml"), string(text))
			if r := runIn(t, []string{"env", "UAKARI_CONFIG=" + path}, "config", "show"); r.status != 0 {
				return errors.New(r.stderr)
			}
			return nil
		},
	}
	format := regexp.MustCompile(`(?m)^format: (uakari\.[a-z]+/1)`)
	seen := map[string]int{}
	for _, page := range pages(t) {
		for _, block := range blocksOf(readFile(t, page)) {
			at := format.FindStringSubmatchIndex(block.text)
			if at == nil {
				continue
			}
			name := fmt.Sprintf("%s from line %d", page, block.line)
			kind := block.text[at[2]:at[3]]
			if readers[kind] == nil {
				t.Errorf("%s: nobody reads %s", name, kind)
				continue
			}
			if err := readers[kind](name, []byte(block.text[at[0]:])); err != nil {
				t.Error(err)
			}
			seen[kind]++
		}
	}
	for format := range readers {
		if seen[format] == 0 {
			t.Errorf("no page shows a file of %s", format)
		}
	}
}

// written is one block of a page that is set off by four blanks.
type written struct {
	line int
	text string
}

// blocksOf is the blocks of a page, by what they are set off by. Empty lines within one belong to it.
func blocksOf(page string) (list []written) {
	var b strings.Builder
	begun := 0
	end := func() {
		if b.Len() > 0 {
			list = append(list, written{begun, strings.TrimRight(b.String(), "\n") + "\n"})
		}
		b.Reset()
	}
	n := 0
	for line := range strings.Lines(page) {
		n++
		text, in := strings.CutPrefix(line, "    ")
		if !in {
			text, in = strings.CutPrefix(line, "   ") // within a numbered list
		}
		switch {
		case strings.HasPrefix(text, "```"):
			end()
		case in && b.Len() == 0:
			begun = n
			b.WriteString(text)
		case in:
			b.WriteString(text)
		case strings.TrimSpace(line) == "" && b.Len() > 0:
			b.WriteString("\n")
		default:
			end()
		}
	}
	end()
	return list
}

// TestWrittenOutput runs the command that the README shows with its output, on the
// server that it names, and compares: what differs from run to run, and what the
// README leaves out by "…", excepted.
func TestWrittenOutput(t *testing.T) {
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	dir := t.TempDir()
	port := freePort(t)
	conf := write(t, filepath.Join(dir, "nginx.conf"), fmt.Sprintf(
		"daemon off; pid %[1]s/pid; error_log %[1]s/error.log; events {}\nhttp { access_log off; server { listen "+
			"127.0.0.1:%[2]d; return 200 ok; } }\n", dir, port))
	start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, nginx, "-c", conf)
	shown := ""
	for _, block := range blocksOf(readFile(t, "../README.md")) {
		if strings.HasPrefix(block.text, "$ uakari trace http://127.0.0.2:8080/") {
			_, shown, _ = strings.Cut(block.text, "\n")
		}
	}
	if shown == "" {
		t.Fatal("the README shows no output")
	}
	host, err := os.Hostname()
	if err != nil {
		t.Fatal(err)
	}
	r := run(t, "trace", fmt.Sprintf("http://127.0.0.2:%d/", port))
	varies := regexp.MustCompile(`\(pid \d+\)|for (?:a moment|\d+ [a-z]+)|in \d+ ms`)
	even := func(text string) string {
		text = strings.NewReplacer(fmt.Sprint(port), "8080", host+" ", "tidebook ", host+",",
			"tidebook,").Replace(text)
		return strings.Join(strings.Fields(varies.ReplaceAllString(text, "~")), " ")
	}
	rest := even(r.stdout)
	for part := range strings.SplitSeq(shown, "…") {
		part = even(part)
		at := strings.Index(rest, part)
		if at < 0 {
			t.Fatalf("the README shows\n%s\nand it says\n%s", part, rest)
		}
		rest = rest[at+len(part):]
	}
}
