// Package yamlfile reads the YAML that users write: whole, strictly, and with
// errors that name file, line and column.
package yamlfile

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Places finds the places of values in a text, to name them in errors.
type Places struct {
	path string
	file *ast.File
}

// PlacesOf parses a text that was decoded before.
func PlacesOf(path string, text []byte) (Places, error) {
	file, err := Parse(text)
	if err != nil {
		return Places{}, fmt.Errorf("%s:1:1: %w", path, err)
	}
	return Places{path, file}, nil
}

// Wrong is an error at a place ("$.layers[0].kind"), or at the nearest one
// around it that is written.
func (p Places) Wrong(at, format string, args ...any) error {
	line, column := 1, 1
	for at != "" && at != "$" {
		if where, err := yaml.PathString(at); err == nil {
			if node, err := where.FilterFile(p.file); err == nil && node != nil && node.GetToken() != nil {
				line, column = node.GetToken().Position.Line, node.GetToken().Position.Column
				break
			}
		}
		at = at[:strings.LastIndexAny(at, ".[")]
	}
	return fmt.Errorf("%s:%d:%d: %s", p.path, line, column, fmt.Sprintf(format, args...))
}

// errNotRead stands for a text that the library goes down with: a damaged tag
// or anchor, as far as is known.
var errNotRead = errors.New("this is not YAML that can be read; expected what a person would write")

// Parse is the tree of a text.
func Parse(text []byte) (file *ast.File, err error) {
	defer func() {
		if recover() != nil {
			file, err = nil, errNotRead
		}
	}()
	return parser.ParseBytes(text, 0)
}

// unmarshal decodes a text, strictly.
func unmarshal(text []byte, into any) (err error) {
	defer func() {
		if recover() != nil {
			err = errNotRead
		}
	}()
	return yaml.UnmarshalWithOptions(text, into, yaml.Strict())
}

// Decode reads text into a value that has a field for every key; path names
// it in errors.
func Decode(path string, text []byte, into any) error {
	if err := Sane(path, text); err != nil {
		return err
	}
	err := unmarshal(text, into)
	if err == nil {
		return nil
	}
	var y yaml.Error
	if errors.As(err, &y) && y.GetToken() != nil {
		return fmt.Errorf("%w%s", Placed(path, err), meant(y.GetMessage(), into))
	}
	return Placed(path, err)
}

// Placed is an error of the library's in one line, with the place that it is of.
func Placed(path string, err error) error {
	var y yaml.Error
	if errors.As(err, &y) && y.GetToken() != nil {
		at := y.GetToken().Position
		return fmt.Errorf("%s:%d:%d: %s", path, at.Line, at.Column, strings.ReplaceAll(y.GetMessage(), "\n", " "))
	}
	first, _, _ := strings.Cut(strings.TrimSpace(err.Error()), "\n")
	return fmt.Errorf("%s:1:1: %s", path, first)
}

// meant suggests the key that a misspelt one was meant to be.
func meant(message string, into any) string {
	_, after, ok := strings.Cut(message, `unknown field "`)
	if !ok {
		return ""
	}
	key, _, _ := strings.Cut(after, `"`)
	return Meant(key, 2, keysOf(reflect.TypeOf(into), nil))
}

// Meant suggests which of some words a misspelt one was meant to be: one that is at most so
// many characters away, or a third of them; "" if none is.
func Meant(typed string, most int, known []string) string {
	best, least := "", max(most, len(typed)/3)+1
	for _, word := range known {
		if d := Distance(typed, word); d < least {
			best, least = word, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf("; did you mean %q?", best)
}

// keysOf is every key that a type, or one within it, is written with.
func keysOf(t reflect.Type, seen []reflect.Type) []string {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct || slices.Contains(seen, t) {
		return nil
	}
	var keys []string
	for i := range t.NumField() {
		if tag := t.Field(i).Tag.Get("yaml"); tag != "" {
			name, _, _ := strings.Cut(tag, ",")
			keys = append(keys, name)
		}
		keys = append(keys, keysOf(t.Field(i).Type, append(seen, t))...)
	}
	return keys
}

// Distance is how many characters must be put in, left out, changed, or
// swapped with the next, to make one word of another.
func Distance(a, b string) int {
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}
