package program

import (
	"regexp/syntax"
	"strings"
	"testing"

	"uakari/internal/redact"
)

// TestWordsAreKept is a line for every way to write what a program's words look for: what
// may be a secret is hidden in lines before they are read, and the words must stand.
func TestWordsAreKept(t *testing.T) {
	r, err := With(nil)
	if err != nil {
		t.Fatal(err)
	}
	lines := 0
	for _, p := range r.All() {
		for _, s := range p.Says {
			re, err := syntax.Parse("(?i)"+s.Words, syntax.Perl)
			if err != nil {
				t.Fatal(err)
			}
			for _, line := range phrasings(re.Simplify()) {
				lines++
				if kept := redact.LogLine(line); s.words.MatchString(line) && !s.words.MatchString(kept) {
					t.Errorf("%s: of %q is kept %q, and %q is no more in it", p.Name, line, kept, s.Words)
				}
			}
		}
	}
	if lines < 250 {
		t.Errorf("only %d lines were tried", lines)
	}
}

// mostPhrasings is how many lines are made of one expression.
const mostPhrasings = 64

// phrasings is texts that an expression matches: each of its alternatives, with a word of
// letters for what may be anything.
func phrasings(re *syntax.Regexp) []string {
	switch re.Op {
	case syntax.OpLiteral:
		return []string{string(re.Rune)}
	case syntax.OpCharClass:
		for _, r := range "ab7 /-" {
			for i := 0; i < len(re.Rune); i += 2 {
				if re.Rune[i] <= r && r <= re.Rune[i+1] {
					return []string{string(r)}
				}
			}
		}
		return []string{string(re.Rune[0])}
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		return []string{"'"} // as in "can't"
	case syntax.OpCapture, syntax.OpPlus, syntax.OpRepeat:
		return phrasings(re.Sub[0])
	case syntax.OpStar:
		if re.Sub[0].Op == syntax.OpAnyCharNotNL {
			return []string{" for gauge "}
		}
		return []string{""}
	case syntax.OpQuest:
		return append([]string{""}, phrasings(re.Sub[0])...)
	case syntax.OpAlternate:
		var list []string
		for _, sub := range re.Sub {
			list = append(list, phrasings(sub)...)
		}
		return list
	case syntax.OpConcat:
		list := []string{""}
		for _, sub := range re.Sub {
			var next []string
			for _, end := range phrasings(sub) {
				for _, begin := range list {
					if len(next) < mostPhrasings {
						next = append(next, strings.Join([]string{begin, end}, ""))
					}
				}
			}
			list = next
		}
		return list
	}
	return []string{""}
}
