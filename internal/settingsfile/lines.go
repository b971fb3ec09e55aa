package settingsfile

import (
	"strings"

	"github.com/magiconair/properties"
	"gopkg.in/ini.v1"
)

// lineFormat is how a format of lines is written.
type lineFormat struct {
	separators string // the first of them ends a key; blanks do too where none is found
	comments   string
	sections   bool // [section] goes before the keys below it
	hosts      bool // "Host pattern" does
	exact      bool // blanks at the end of a value belong to it
	// pair is a library's reader of one setting; it knows the quotes and escapes of the
	// grammar, and this package where the setting stands, which the libraries do not tell.
	pair func(line string) (key, value string, ok bool)
	// goesOn is that a backslash at the end of a line takes in the next one.
	goesOn bool
}

var lineFormats = map[string]lineFormat{
	"ini":        {separators: "=:", comments: "#;", sections: true, pair: iniPair},
	"pg-service": {separators: "=", comments: "#", sections: true},
	"properties": {separators: "=:", comments: "#!", exact: true, pair: propertyPair, goesOn: true},
	"env":        {separators: "=", comments: "#", exact: true},
	"ssh":        {separators: "= \t", comments: "#", hosts: true},
	"words":      {separators: " \t=", comments: "#;"},
	"equals":     {separators: "=", comments: "#;!"},
	"colon":      {separators: ":", comments: "#", exact: true},
}

// lined is the reader of a grammar of lines.
func lined(grammar string) func(string) ([]Value, error) {
	return func(text string) ([]Value, error) { return inLines(text, lineFormats[grammar]), nil }
}

func inLines(text string, as lineFormat) []Value {
	var list []Value
	section, number := "", 0
	lines := strings.Split(text, "\n")
	for at := 0; at < len(lines) && len(list) < mostFound; at++ {
		number = at + 1
		line := strings.TrimRight(lines[at], "\r")
		trimmed := strings.TrimLeft(line, " \t")
		off := trimmed != "" && strings.ContainsRune(as.comments, rune(trimmed[0]))
		if off {
			trimmed = strings.TrimLeft(trimmed, as.comments+" \t")
		}
		column := strings.Index(line, trimmed) + 1
		for as.goesOn && !off && endsOpen(trimmed) && at+1 < len(lines) {
			at++
			trimmed += "\n" + strings.TrimRight(lines[at], "\r")
		}
		if as.sections && strings.HasPrefix(trimmed, "[") && strings.Contains(trimmed, "]") {
			if name, _, _ := strings.Cut(trimmed[1:], "]"); !off {
				section = strings.TrimSpace(name) + "."
			}
			continue
		}
		if off && !as.looksSet(trimmed) {
			continue
		}
		key, value, ok := as.read(trimmed)
		if !ok {
			continue
		}
		if as.hosts && (strings.EqualFold(key, "Host") || strings.EqualFold(key, "Match")) && !off {
			section = value + "."
			continue
		}
		list = append(list, Value{Key: section + key, Text: value, Line: number, Column: column, Off: off})
	}
	return list
}

// endsOpen reports an odd number of backslashes at the end.
func endsOpen(line string) bool {
	return (len(line)-len(strings.TrimRight(line, `\`)))%2 == 1
}

// looksSet tells a setting that is commented out from a sentence.
func (as lineFormat) looksSet(line string) bool {
	at := strings.IndexAny(line, as.separators)
	return at > 0 && !strings.ContainsAny(strings.TrimRight(line[:at], " \t"), " \t")
}

// read is the key and the value of one setting.
func (as lineFormat) read(line string) (key, value string, ok bool) {
	if as.pair != nil {
		return as.pair(line)
	}
	at := strings.IndexAny(line, as.separators)
	if at <= 0 {
		return "", "", false
	}
	key = strings.TrimSpace(strings.TrimPrefix(strings.TrimRight(line[:at], " \t"), "export "))
	value = strings.TrimLeft(line[at+1:], " \t=")
	if !as.exact {
		value = strings.TrimRight(value, " \t")
	}
	return key, unquoted(value, as), true
}

// iniPair is one setting of an INI file. A backslash at the end belongs to the value:
// folders of Windows are written so.
func iniPair(line string) (key, value string, ok bool) {
	file, err := ini.LoadSources(ini.LoadOptions{IgnoreInlineComment: true, IgnoreContinuation: true}, []byte(line))
	if err != nil {
		return "", "", false
	}
	for _, each := range file.Section("").Keys() {
		return each.Name(), unquoted(each.Value(), lineFormat{}), true
	}
	return "", "", false
}

// propertyPair is one setting of a properties file, as Java's reader of them takes it.
func propertyPair(line string) (key, value string, ok bool) {
	loader := properties.Loader{Encoding: properties.UTF8, DisableExpansion: true}
	set, err := loader.LoadBytes([]byte(line))
	if err != nil || set.Len() == 0 {
		return "", "", false
	}
	key = set.Keys()[0]
	value, ok = set.Get(key)
	return key, value, ok
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
