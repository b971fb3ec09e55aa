package settingsfile

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// inTOML reads TOML 1.0: keys are joined by dots with the table they stand in, places in
// lists and in lists of tables are numbers. Lines that are commented out and look like a
// setting are told with them.
func inTOML(text string) ([]Value, error) {
	text = strings.TrimPrefix(text, "\ufeff")
	r := tomlReader{tables: map[string]int{}, starts: []int{0}}
	for i := range len(text) {
		if text[i] == '\n' {
			r.starts = append(r.starts, i+1)
		}
	}
	r.parser.KeepComments = true
	r.parser.Reset([]byte(text))
	for r.parser.NextExpression() && len(r.list) < mostFound {
		switch e := r.parser.Expression(); e.Kind {
		case unstable.Table:
			r.section = r.in(parts(e)) + "."
		case unstable.ArrayTable:
			name := r.in(parts(e))
			r.section = fmt.Sprintf("%s.%d.", name, r.tables[name])
			r.tables[name]++
		case unstable.KeyValue:
			r.pair(r.section, e, 0)
		case unstable.Comment:
			r.comment(e)
		}
	}
	if err := r.parser.Error(); err != nil {
		var at *unstable.ParserError
		if errors.As(err, &at) {
			where := r.parser.Shape(r.parser.Range(at.Highlight)).Start
			return nil, fmt.Errorf("line %d, column %d: %s", where.Line, where.Column, at.Message)
		}
		return nil, err
	}
	return r.list, nil
}

type tomlReader struct {
	parser  unstable.Parser
	section string
	tables  map[string]int // how many of each list of tables there were
	list    []Value
	starts  []int // where each line begins
}

// place is the line and the column of a part of the text. The parser's own count goes over
// the text from its start each time.
func (r *tomlReader) place(at unstable.Range) (line, column int) {
	line, exact := slices.BinarySearch(r.starts, int(at.Offset))
	if exact {
		line++
	}
	return line, int(at.Offset) - r.starts[line-1] + 1
}

func joined(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

// parts is the key of an expression, part by part.
func parts(e *unstable.Node) []string {
	var list []string
	for it := e.Key(); it.Next(); {
		list = append(list, string(it.Node().Data))
	}
	return list
}

// in is the name of a table, with the number of the last of each list of tables that it
// stands in.
func (r *tomlReader) in(parts []string) string {
	name := ""
	for i, part := range parts {
		name = joined(name, part)
		if n := r.tables[name]; n > 0 && i < len(parts)-1 {
			name = fmt.Sprintf("%s.%d", name, n-1)
		}
	}
	return name
}

func (r *tomlReader) pair(section string, e *unstable.Node, level int) {
	key := e.Key()
	var first unstable.Range
	for it := key; it.Next(); {
		if first.Length == 0 {
			first = it.Node().Raw
		}
	}
	r.value(section+strings.Join(parts(e), "."), e.Value(), first, level)
}

// value tells a value, or each value in it. A list and a table have no place of their
// own: they stand where the key does.
func (r *tomlReader) value(key string, n *unstable.Node, at unstable.Range, level int) {
	if level > mostLevels || len(r.list) == mostFound {
		return
	}
	if n.Raw.Length > 0 {
		at = n.Raw
	}
	switch n.Kind {
	case unstable.Array:
		i := 0
		for it := n.Children(); it.Next(); {
			if it.Node().Kind != unstable.Comment {
				r.value(joined(key, fmt.Sprint(i)), it.Node(), at, level+1)
				i++
			}
		}
	case unstable.InlineTable:
		for it := n.Children(); it.Next(); {
			if it.Node().Kind == unstable.KeyValue {
				r.pair(key+".", it.Node(), level+1)
			}
		}
	default:
		line, column := r.place(at)
		r.list = append(r.list, Value{Key: key, Text: string(n.Data), Line: line, Column: column})
	}
}

// comment tells a setting that is commented out.
func (r *tomlReader) comment(e *unstable.Node) {
	line := strings.TrimLeft(string(e.Data), "# \t")
	as := lineFormat{separators: "=", sections: true}
	if !as.looksSet(line) {
		return
	}
	key, value, _ := as.read(line)
	where := r.parser.Shape(e.Raw).Start
	r.list = append(r.list, Value{Key: r.section + key, Text: value, Line: where.Line, Column: where.Column,
		Off: true})
}
