package internal

import (
	"bufio"
	"bytes"
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// widest is the last column of a line of code; a tab goes four columns on.
const widest = 119

// TestWidth wants lines to end before column 120, but for text of others that is quoted
// as it is: certificates, settings, commands.
func TestWidth(t *testing.T) {
	for _, root := range []string{".", "../cmd", "../test", "../dist"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
				return err
			}
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			quoted := quotedLines(text)
			lines := bufio.NewScanner(bytes.NewReader(text))
			lines.Buffer(nil, 1<<20)
			for number := 1; lines.Scan(); number++ {
				line := strings.ReplaceAll(lines.Text(), "\t", "    ")
				if len([]rune(line)) > widest && !quoted[number] {
					t.Errorf("%s:%d ends in column %d", path, number, len([]rune(line)))
				}
			}
			return lines.Err()
		})
		if err != nil {
			t.Error(err)
		}
	}
}

// quotedLines is the lines that a long text in quotes is on.
func quotedLines(text []byte) map[int]bool {
	lines, files := map[int]bool{}, token.NewFileSet()
	file := files.AddFile("", -1, len(text))
	var s scanner.Scanner
	s.Init(file, text, nil, 0)
	for {
		pos, tok, lit := s.Scan()
		if tok == token.EOF {
			return lines
		}
		if tok == token.STRING && len(lit) > 60 {
			first := files.Position(pos).Line
			for i := range strings.Count(lit, "\n") + 1 {
				lines[first+i] = true
			}
		}
	}
}
