package settingsfile

import (
	"fmt"
	"strings"
)

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
		if len(list) == mostFound {
			return list
		}
		list = append(
			list,
			Value{Key: section + key, Text: value, Line: number, Column: strings.Index(line, trimmed) + 1, Off: off},
		)
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
