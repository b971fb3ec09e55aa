package yamlfile

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// Bounds on what a text may make of itself: how deep its parts lie in each
// other, and how many there are once every alias stands for what it names.
const (
	mostLevels = 100
	mostParts  = 100_000
)

// Sane refuses a text that would cost more than it says. Levels are counted
// before it is parsed, since the parser goes down with every one of them.
func Sane(path string, text []byte) error {
	if line, column, ok := tooDeep(text); ok {
		return fmt.Errorf(
			"%s:%d:%d: parts within parts beyond %d levels; expected what a person would write",
			path,
			line,
			column,
			mostLevels,
		)
	}
	if !bytes.ContainsRune(text, '*') {
		return nil // no alias
	}
	file, err := Parse(text)
	if err != nil {
		return nil // whoever decodes it says so
	}
	c := counter{anchors: map[string]int{}}
	for _, doc := range file.Docs {
		if doc.Body != nil && c.count(doc.Body) > mostParts {
			return fmt.Errorf(
				"%s:1:1: aliases that stand for more than %d parts; expected what a person would write",
				path,
				mostParts,
			)
		}
	}
	return nil
}

// tooDeep finds where a text goes deeper than anybody writes: brackets that
// were not closed, dashes in a row, and lines that are each further in.
func tooDeep(text []byte) (line, column int, found bool) {
	open := 0
	var margins []int // of the lines that the current one lies within
	for raw := range bytes.Lines(text) {
		line++
		s := strings.TrimRight(string(raw), "\r\n")
		at := len(s) - len(strings.TrimLeft(s, " "))
		if trimmed := s[at:]; trimmed != "" && trimmed[0] != '#' {
			for len(margins) > 0 && margins[len(margins)-1] >= at {
				margins = margins[:len(margins)-1]
			}
			margins = append(margins, at)
			dashes := 0
			for rest := trimmed; strings.HasPrefix(rest, "- ") ||
				strings.HasPrefix(rest, "? "); rest = strings.TrimLeft(rest[2:], " ") {
				if dashes++; len(margins)+dashes > mostLevels {
					return line, at + 1, true
				}
			}
		}
		for i, r := range s {
			switch r {
			case '[', '{':
				open++
			case ']', '}':
				open = max(0, open-1)
			}
			if open+len(margins) > mostLevels {
				return line, i + 1, true
			}
		}
	}
	return 0, 0, false
}

// counter counts parts, with what aliases stand for.
type counter struct{ anchors map[string]int }

func (c counter) count(n ast.Node) int {
	total := 1
	add := func(more ast.Node) {
		if more != nil && total <= mostParts {
			total += c.count(more)
		}
	}
	switch n := n.(type) {
	case *ast.MappingNode:
		for _, v := range n.Values {
			add(v)
		}
	case *ast.MappingValueNode:
		add(n.Value)
	case *ast.SequenceNode:
		for _, v := range n.Values {
			add(v)
		}
	case *ast.AnchorNode:
		add(n.Value)
		c.anchors[n.Name.GetToken().Value] = total
	case *ast.AliasNode:
		total += c.anchors[n.Value.GetToken().Value]
	case *ast.TagNode:
		add(n.Value)
	}
	return min(total, mostParts+1)
}
