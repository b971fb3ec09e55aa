package host

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/keep"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/written"
)

// mostSettingFile bounds a settings file that a card names, in bytes.
const mostSettingFile = 4 << 20

// mostSettings bounds what is read of any other settings file, in bytes.
const mostSettings = 1 << 20

// readSome reads a file, up to that bound.
func readSome(path string) ([]byte, error) {
	return file.Head(path, mostSettings)
}

// Settings leaves the settings that the card names, as this side of the
// connection has them, and whether the client program is there.
func Settings(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	s := fact.Settings{Side: order.Target.Name, List: []fact.SettingSeen{}}
	if env.Card == nil {
		emit(env.Failed(order, "card", "could not look at settings", errors.New("there is no card"), "--card FILE"))
		return
	}
	if s.Side == "client" && env.Card.ClientProgram != "" {
		s.Program = env.Card.ClientProgram
		if path, err := exec.LookPath(s.Program); err == nil {
			s.ProgramPath = path
		}
	}
	for i, rule := range env.Card.Settings {
		places := []*fact.SettingAt{rule.Client}
		if s.Side == "server" {
			places = []*fact.SettingAt{rule.Server}
		} else {
			for j := range rule.Copies {
				places = append(places, &rule.Copies[j])
			}
		}
		for j, at := range places {
			if at != nil {
				seen := readSetting(*at)
				seen.Rule, seen.Copy = i, j
				s.List = append(s.List, seen)
			}
		}
	}
	f := env.Seen(order, "settings on the "+s.Side, sawSettings(s))
	f.Settings = &s
	emit(f)
}

func sawSettings(s fact.Settings) string {
	var parts []string
	for _, seen := range s.List {
		switch {
		case seen.Missing != "":
			parts = append(parts, seen.At.Key+": "+seen.Missing)
		case seen.Unread != "":
			parts = append(parts, seen.At.Key+": "+seen.Unread)
		default:
			parts = append(parts, fmt.Sprintf("%s is %q", seen.At.Key, seen.Value))
		}
	}
	if len(parts) == 0 {
		return "none named"
	}
	return strings.Join(parts, ", ")
}

// found is a key with its value in a settings file.
type found struct {
	key, value string
	line       int
	off        bool // commented out
}

// readSetting reads one setting. The last of several counts.
func readSetting(at fact.SettingAt) fact.SettingSeen {
	seen := fact.SettingSeen{At: at}
	text, err := readSettingFile(at.File)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		seen.Missing = "there is no file " + at.File
		return seen
	case err != nil:
		seen.Unread = err.Error()
		return seen
	}
	all, err := settingsIn(text, at.Format)
	if err != nil {
		seen.Unread = fmt.Sprintf("%s cannot be read as %s: %v", at.File, at.Format, err)
		return seen
	}
	seen.Missing = "no such key in " + at.File
	nearest := max(2, len(at.Key)/4) + 1
	wanted := placed(at.Key)
	for _, f := range all {
		if !f.off && (f.key == wanted || at.Format == "ssh" && strings.EqualFold(f.key, wanted)) {
			seen.Missing, seen.Value, seen.Line = "", f.value, f.line
			continue
		}
		clean, _ := endpoint.Clean(f.key)
		distance := written.Distance(strings.ToLower(clean), strings.ToLower(at.Key))
		if distance < nearest && !keep.Secretive(f.key) {
			nearest, seen.NearLine = distance, f.line
			seen.Near = fmt.Sprintf("%s = %s", f.key, keep.Value(f.key, f.value))
			if f.off {
				seen.Near = "commented out: " + seen.Near
			}
		}
	}
	switch {
	case seen.Missing == "" && strings.TrimSpace(seen.Value) == "":
		seen.Missing = fmt.Sprintf("it is empty (%s, line %d)", at.File, seen.Line)
	case seen.Missing == "":
		seen.Near, seen.NearLine = "", 0
		if clean, stray := endpoint.Clean(seen.Value); len(stray) > 0 {
			seen.Clean, seen.Stray = clean, stray
		}
	}
	if kept := keep.Value(at.Key, seen.Value); kept != seen.Value {
		seen.Mark, seen.Value, seen.Clean = keep.Mark(seen.Value), kept, keep.Value(at.Key, seen.Clean)
	}
	return seen
}

// placed is a key with its places in lists written as settings are read here:
// "servers[0].host" is "servers.0.host".
func placed(key string) string {
	return strings.NewReplacer("[", ".", "]", "").Replace(key)
}

func readSettingFile(path string) (string, error) {
	text, err := file.Read(atHome(path), mostSettingFile)
	return string(text), err
}

// atHome puts the user's home in place of "~/".
func atHome(path string) string {
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	return path
}

// Bounds on what is found in a settings file.
const (
	mostLevels = 100
	mostFound  = 20_000
)

// settingsIn is every key with its value, in any of the card's formats.
func settingsIn(text, format string) ([]found, error) {
	switch format {
	case "yaml", "json":
		return inTree(text)
	case "xml":
		return inXML(text)
	}
	return inLines(text, lineFormats[format]), nil
}

// lineFormat is how a format of lines is written.
type lineFormat struct {
	separators string // the first of them ends a key; blanks do too where none is found
	comments   string
	sections   bool // [section] goes before the keys below it
	hosts      bool // "Host pattern" does
	exact      bool // blanks at the end of a value belong to it
}

var lineFormats = map[string]lineFormat{
	"ini":        {separators: "=:", comments: "#;", sections: true},
	"toml":       {separators: "=", comments: "#", sections: true},
	"pg-service": {separators: "=", comments: "#", sections: true},
	"properties": {separators: "=:", comments: "#!", exact: true},
	"env":        {separators: "=", comments: "#", exact: true},
	"ssh":        {separators: "= \t", comments: "#", hosts: true},
}

func inLines(text string, as lineFormat) []found {
	var list []found
	section, number := "", 0
	tables := map[string]int{} // how many of each list of tables there were
	for line := range strings.Lines(text) {
		number++
		line = strings.TrimRight(line, "\r\n")
		trimmed := strings.TrimLeft(line, " \t")
		off := trimmed != "" && strings.ContainsRune(as.comments, rune(trimmed[0]))
		if off {
			trimmed = strings.TrimLeft(trimmed, as.comments+" \t")
		}
		if as.sections && strings.HasPrefix(trimmed, "[") && strings.Contains(trimmed, "]") {
			name, _, _ := strings.Cut(trimmed[1:], "]")
			name, listed := strings.CutPrefix(name, "[")
			if name = strings.TrimSpace(name); !off && listed { // a table of a list, as TOML has them
				section = fmt.Sprintf("%s.%d.", name, tables[name])
				tables[name]++
			} else if !off {
				section = name + "."
			}
			continue
		}
		at := strings.IndexAny(trimmed, as.separators)
		if at <= 0 {
			continue
		}
		key := strings.TrimSpace(strings.TrimPrefix(strings.TrimRight(trimmed[:at], " \t"), "export "))
		value := strings.TrimLeft(trimmed[at+1:], " \t=")
		if !as.exact {
			value = strings.TrimRight(value, " \t")
		}
		if off && strings.ContainsAny(key, " \t") {
			continue // a sentence
		}
		value = unquoted(value, as)
		if as.hosts && (strings.EqualFold(key, "Host") || strings.EqualFold(key, "Match")) && !off {
			section = value + "."
			continue
		}
		list = append(list, found{section + key, value, number, off})
	}
	return list
}

// unquoted takes quotes, and a comment behind a quoted value, away.
func unquoted(value string, as lineFormat) string {
	if value == "" || value[0] != '"' && value[0] != '\'' {
		if as.separators == "=" && as.sections {
			value, _, _ = strings.Cut(value, " #")
			value = strings.TrimRight(value, " \t")
		}
		return value
	}
	if end := strings.IndexByte(value[1:], value[0]); end >= 0 {
		return value[1 : 1+end]
	}
	return value
}

// inTree reads YAML, and JSON as a part of it: keys are joined by dots, places
// in lists are numbers.
func inTree(text string) ([]found, error) {
	if err := written.Sane("it", []byte(text)); err != nil {
		return nil, err
	}
	file, err := written.Parse([]byte(strings.TrimPrefix(text, "\ufeff")))
	if err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		return nil, errors.New(first)
	}
	var list []found
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
			list = append(list, found{path, "", lines[min(n.GetToken().Position.Line, len(lines)-1)], false})
		case ast.ScalarNode:
			list = append(list, found{path, fmt.Sprint(n.GetValue()), lines[min(n.GetToken().Position.Line, len(lines)-1)], false})
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
				list = append(list, found{key, strings.TrimSpace(value), i + 1, true})
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

// inXML reads elements by their path, and attributes behind an "@".
func inXML(text string) ([]found, error) {
	d := xml.NewDecoder(strings.NewReader(text))
	var list []found
	var path []string
	value := ""
	counted, number := 0, 1
	line := func() int { // lines are counted once, however many elements there are
		at := min(int(d.InputOffset()), len(text))
		number += strings.Count(text[counted:at], "\n")
		counted = at
		return number
	}
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		if err != nil {
			return nil, err
		}
		if len(path) > mostLevels || len(list) > mostFound {
			return nil, fmt.Errorf("more than %d elements, or beyond %d levels", mostFound, mostLevels)
		}
		switch t := token.(type) {
		case xml.StartElement:
			path, value = append(path, t.Name.Local), ""
			for _, a := range t.Attr {
				list = append(list, found{strings.Join(path, ".") + "@" + a.Name.Local, a.Value, line(), false})
			}
		case xml.CharData:
			value += string(t)
		case xml.EndElement:
			if len(path) > 0 {
				list = append(list, found{strings.Join(path, "."), value, line(), false})
				path, value = path[:len(path)-1], ""
			}
		}
	}
}
