package settingsfile

import (
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"uakari/internal/yamlfile"
)

// inTree reads YAML, and JSON as a part of it: keys are joined by dots, places
// in lists are numbers.
func inTree(text string) ([]Value, error) {
	if err := yamlfile.Sane("it", []byte(text)); err != nil {
		return nil, err
	}
	file, err := yamlfile.Parse([]byte(strings.TrimPrefix(text, "\ufeff")))
	if err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		return nil, errors.New(first)
	}
	var list []Value
	lines, visited := breaks(text), 0
	anchors := map[string]ast.Node{}
	var walk func(path string, n ast.Node)
	walk = func(path string, n ast.Node) {
		if visited++; len(list) > mostFound || visited > 10*mostFound {
			return
		}
		join := func(key string) string { return strings.TrimPrefix(path+"."+key, ".") }
		switch n := n.(type) {
		case *ast.MappingNode:
			for _, v := range n.Values {
				walk(path, v)
			}
		case *ast.MappingValueNode:
			if _, merge := n.Key.(*ast.MergeKeyNode); merge {
				walk(path, n.Value)
				break
			}
			walk(join(n.Key.GetToken().Value), n.Value)
		case *ast.SequenceNode:
			for i, v := range n.Values {
				walk(join(fmt.Sprint(i)), v)
			}
		case *ast.AnchorNode:
			anchors[n.Name.GetToken().Value] = n.Value
			walk(path, n.Value)
		case *ast.AliasNode:
			// What an alias holds may hold it: it is followed once.
			name := n.Value.GetToken().Value
			if at := anchors[name]; at != nil {
				delete(anchors, name)
				walk(path, at)
				anchors[name] = at
			}
		case *ast.NullNode:
			list = append(list, Value{Key: path, Line: lines[min(n.GetToken().Position.Line, len(lines)-1)],
				Column: n.GetToken().Position.Column})
		case ast.ScalarNode:
			list = append(list, Value{Key: path, Text: fmt.Sprint(n.GetValue()),
				Line: lines[min(n.GetToken().Position.Line, len(lines)-1)], Column: n.GetToken().Position.Column})
		}
	}
	for _, doc := range file.Docs {
		if doc.Body != nil {
			walk("", doc.Body)
		}
	}
	for i, line := range strings.Split(text, "\n") {
		trimmed := strings.TrimSpace(line)
		if rest, ok := strings.CutPrefix(trimmed, "#"); ok {
			if key, value, ok := strings.Cut(strings.TrimSpace(rest), ":"); ok && !strings.ContainsAny(key, " \t") {
				list = append(list, Value{Key: key, Text: strings.TrimSpace(value), Line: i + 1, Off: true})
			}
		}
	}
	return list, nil
}

// breaks is, for each line as YAML counts them from 1, the line as everybody
// else does: YAML takes a lone carriage return for a line's end (YAML 1.2
// section 5.4).
func breaks(text string) []int {
	lines, number := []int{1, 1}, 1
	for i := range len(text) {
		switch {
		case text[i] == '\n':
			number++
			lines = append(lines, number)
		case text[i] == '\r' && (i+1 == len(text) || text[i+1] != '\n'):
			lines = append(lines, number)
		}
	}
	return lines
}
