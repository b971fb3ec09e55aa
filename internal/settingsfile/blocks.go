package settingsfile

import (
	"encoding/xml"
	"errors"
	"io"
	"strings"
)

// nest follows the blocks that a text opens and closes.
type nest struct {
	open   []string
	number []int
	opened int
	list   []Value
}

func (n *nest) enter(name string) {
	n.opened++
	n.open, n.number = append(n.open, strings.ToLower(name)), append(n.number, n.opened)
}

func (n *nest) leave() {
	if len(n.open) > 0 {
		n.open, n.number = n.open[:len(n.open)-1], n.number[:len(n.number)-1]
	}
}

// add takes a statement: its first word is the key, all behind it the value.
func (n *nest) add(statement string, line, column int) {
	if len(n.list) >= mostFound {
		return
	}
	key, value := cut(statement)
	if key == "" {
		return
	}
	v := Value{
		Key:    strings.Join(append(append([]string{}, n.open...), key), "."),
		Text:   value,
		Line:   line,
		Column: column,
	}
	if len(n.number) > 0 {
		v.Block = n.number[len(n.number)-1]
	}
	n.list = append(n.list, v)
}

// cut takes a statement apart where its key ends: at a blank, an equals sign,
// or a colon that a blank follows. Quotes around the whole value go.
func cut(statement string) (key, value string) {
	statement = strings.TrimSpace(statement)
	at := strings.IndexAny(statement, " \t=")
	if at < 0 {
		return statement, ""
	}
	key = strings.TrimSuffix(statement[:at], ":")
	value = strings.TrimLeft(statement[at:], " \t=:")
	if n := len(value); n >= 2 && (value[0] == '"' || value[0] == '\'') && value[n-1] == value[0] &&
		strings.Count(value, value[:1]) == 2 {
		value = value[1 : n-1]
	}
	return key, value
}

// inBlocks reads statements that end with a semicolon or with the line, and
// blocks in braces, as web servers, name servers and mail servers have them.
// Comments begin with "#", "//" at the start of a word, or stand between
// "/*" and "*/".
func inBlocks(text string) ([]Value, error) {
	n := &nest{}
	line, column, from, fromColumn := 1, 0, 1, 1
	var statement strings.Builder
	quote := rune(0)
	skip := "" // until this ends a comment
	flush := func() {
		n.add(statement.String(), from, fromColumn)
		statement.Reset()
	}
	runes := []rune(text)
	for i, r := range runes {
		column++
		next := rune(0)
		if i+1 < len(runes) {
			next = runes[i+1]
		}
		blankBefore := i == 0 || strings.ContainsRune(" \t\n;{}", runes[i-1])
		switch {
		case skip == "\n" && r == '\n', skip == "*/" && r == '/' && i > 0 && runes[i-1] == '*':
			if skip = ""; r == '\n' {
				flush()
			}
		case skip != "":
		case quote != 0:
			if statement.WriteRune(r); r == quote {
				quote = 0
			}
		case r == '"' || r == '\'':
			quote = r
			statement.WriteRune(r)
		case r == '#' && blankBefore, r == '/' && next == '/' && blankBefore:
			skip = "\n"
		case r == '/' && next == '*' && blankBefore:
			skip = "*/"
		case r == '{':
			if len(n.open) >= mostLevels {
				return n.list, errors.New("its blocks lie too deep")
			}
			n.add(statement.String(), from, fromColumn)
			key, _ := cut(statement.String())
			n.enter(key)
			statement.Reset()
		case r == '}':
			flush()
			n.leave()
		case r == ';' || r == '\n':
			flush()
		default:
			if statement.Len() == 0 {
				if r == ' ' || r == '\t' || r == '\r' {
					break
				}
				from, fromColumn = line, column
			}
			statement.WriteRune(r)
		}
		if r == '\n' {
			line, column = line+1, 0
			quote = 0 // a quote that is not closed on its line is an apostrophe
		}
	}
	flush()
	return n.list, nil
}

// inTags reads lines of a key and a value between tags: "<Tag value>" opens a
// block, "</Tag>" closes it. What a tag says is a value of its own.
func inTags(text string) ([]Value, error) {
	n := &nest{}
	number, held := 0, ""
	for line := range strings.Lines(text) {
		number++
		trimmed := strings.TrimSpace(held + line)
		if rest, goesOn := strings.CutSuffix(trimmed, "\\"); goesOn {
			held = rest + " "
			continue
		}
		held = ""
		column := len(line) - len(strings.TrimLeft(line, " \t")) + 1
		switch {
		case trimmed == "" || trimmed[0] == '#':
		case strings.HasPrefix(trimmed, "</"):
			n.leave()
		case trimmed[0] == '<':
			inner := strings.TrimSuffix(trimmed[1:], ">")
			key, _ := cut(inner)
			n.add(inner, number, column)
			if len(n.open) < mostLevels {
				n.enter(key)
			}
		default:
			n.add(trimmed, number, column)
		}
	}
	return n.list, nil
}

// inAddPairs reads XML that writes its settings as <add key="…" value="…"/>,
// whatever they stand in; also name for key.
func inAddPairs(text string) ([]Value, error) {
	d := xml.NewDecoder(strings.NewReader(text))
	var list []Value
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		if err != nil {
			return nil, err
		}
		start, ok := token.(xml.StartElement)
		if !ok || !strings.EqualFold(start.Name.Local, "add") || len(list) >= mostFound {
			continue
		}
		v := Value{}
		v.Line, v.Column = d.InputPos()
		for _, a := range start.Attr {
			switch strings.ToLower(a.Name.Local) {
			case "key", "name":
				v.Key = a.Value
			case "value", "connectionstring":
				v.Text = a.Value
			}
		}
		if v.Key != "" {
			list = append(list, v)
		}
	}
}
