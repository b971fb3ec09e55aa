package program

import (
	"slices"
	"strings"
)

// SameEntry reports whether two names of directory entries are one: attribute
// names and values without regard to case, blanks around them, and runs of
// blanks within (RFC 4514; RFC 4518 sections 2.4 and 2.6, as most naming
// attributes have it), parts of one level in any order.
func SameEntry(a, b string) bool { return entryName(a) == entryName(b) }

func entryName(dn string) string {
	var levels []string
	for _, level := range splitEscaped(dn, ',', ';') {
		var parts []string
		for _, part := range splitEscaped(level, '+') {
			name, value, _ := strings.Cut(part, "=")
			value = strings.TrimSpace(value)
			if len(value) > 1 && value[0] == '"' && value[len(value)-1] == '"' {
				value = value[1 : len(value)-1] // RFC 2253 still read this
			}
			parts = append(
				parts,
				strings.ToLower(strings.TrimSpace(name)+"="+strings.Join(strings.Fields(unescaped(value)), " ")),
			)
		}
		slices.Sort(parts)
		levels = append(levels, strings.Join(parts, "\x01"))
	}
	return strings.Join(levels, "\x00")
}

// splitEscaped splits at separators that are neither escaped nor quoted.
func splitEscaped(text string, separators ...byte) []string {
	var list []string
	start, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case !quoted && slices.Contains(separators, c):
			list = append(list, text[start:i])
			start = i + 1
		}
	}
	return append(list, text[start:])
}

// unescaped undoes the escapes of a value: \\, and two digits of hexadecimal.
func unescaped(value string) string {
	var b strings.Builder
	for i := 0; i < len(value); i++ {
		if value[i] != '\\' || i+1 == len(value) {
			b.WriteByte(value[i])
			continue
		}
		if i+2 < len(value) && hexDigit(value[i+1]) >= 0 && hexDigit(value[i+2]) >= 0 {
			b.WriteByte(byte(hexDigit(value[i+1])<<4 | hexDigit(value[i+2])))
			i += 2
			continue
		}
		i++
		b.WriteByte(value[i])
	}
	return b.String()
}

func hexDigit(c byte) int {
	if c >= 'A' && c <= 'F' {
		c += 'a' - 'A'
	}
	return strings.IndexByte("0123456789abcdef", c)
}
