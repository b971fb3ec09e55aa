// Package tell turns a trail into text or JSON. It decides nothing.
package tell

import (
	"strings"
	"unicode/utf8"

	"uakari/internal/trail"
)

// paint adds colour where there is any. The zero value adds none.
type paint struct{ on bool }

// Colours of the eight that every terminal has; what matters most is bold, so
// that nothing depends on colour alone.
const (
	red    = "1;31"
	yellow = "33"
	green  = "32"
	blue   = "36"
	grey   = "2"
	bold   = "1"
)

func (p paint) as(code, s string) string {
	if !p.on || s == "" {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

var stateColours = map[trail.State]string{
	trail.Clear: green, trail.Fault: red, trail.Follows: grey, trail.Doubt: yellow, trail.Unseen: grey,
	trail.Moot: grey,
}

var signColours = map[trail.SignState]string{trail.SignMet: green, trail.SignFails: red, trail.SignUnseen: grey}

// wrap breaks a text into lines of at most width characters. A word longer
// than a line stays whole.
func wrap(text string, width int) []string {
	var lines []string
	line := ""
	for word := range strings.FieldsSeq(text) {
		switch {
		case line == "":
			line = word
		case utf8.RuneCountInString(line)+1+utf8.RuneCountInString(word) <= width:
			line += " " + word
		default:
			lines = append(lines, line)
			line = word
		}
	}
	if line != "" {
		lines = append(lines, line)
	}
	return lines
}

// block writes a text behind a first prefix, its further lines indented by
// another one.
func block(b *strings.Builder, first, rest, text string, width int) {
	prefix := first
	longest := max(utf8.RuneCountInString(first), utf8.RuneCountInString(rest))
	for _, line := range wrap(text, width-longest) {
		b.WriteString(prefix + line + "\n")
		prefix = rest
	}
}
