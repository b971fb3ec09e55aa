package settingsfile

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf16"
)

// RegistryValue is one value of the registry of Windows.
type RegistryValue struct {
	Path string // of its key, in full: `HKEY_LOCAL_MACHINE\SYSTEM\…`
	Name string // "" for the key's own
	Text string // a number in decimal; several strings with a line's end between them
	Line int
}

var errNotRegistry = errors.New(
	"not an export of the registry; expected a first line like \"Windows Registry Editor Version 5.00\"",
)

// IsRegistry reports whether a text begins as an export of the registry does.
func IsRegistry(text []byte) bool {
	first, _, _ := strings.Cut(Decode(text), "\n")
	first = strings.TrimSpace(first)
	return strings.HasPrefix(first, "Windows Registry Editor Version 5") || first == "REGEDIT4"
}

// Marked reports whether a text begins with a mark that says in what it is written.
func Marked(text []byte) bool {
	return len(text) >= 2 && (text[0] == 0xff && text[1] == 0xfe || text[0] == 0xfe && text[1] == 0xff) ||
		bytes.HasPrefix(text, []byte("\ufeff"))
}

// Decode is a text in UTF-8, whatever it says that it is in: UTF-16 of either
// order by its mark, or UTF-8 with one.
func Decode(text []byte) string {
	var order binary.ByteOrder
	switch {
	case len(text) >= 2 && text[0] == 0xff && text[1] == 0xfe:
		order = binary.LittleEndian
	case len(text) >= 2 && text[0] == 0xfe && text[1] == 0xff:
		order = binary.BigEndian
	default:
		return strings.TrimPrefix(string(text), "\ufeff")
	}
	units := make([]uint16, 0, len(text)/2)
	for at := 2; at+1 < len(text); at += 2 {
		units = append(units, order.Uint16(text[at:]))
	}
	return string(utf16.Decode(units))
}

// Registry reads an export of the registry: keys in brackets, values as
// "name"=data. Values and keys that a minus takes away are left out.
func Registry(text []byte) ([]RegistryValue, error) {
	if !IsRegistry(text) {
		return nil, errNotRegistry
	}
	var list []RegistryValue
	path, whole, from := "", "", 0
	for i, line := range strings.Split(Decode(text), "\n") {
		line = strings.TrimRight(line, "\r")
		if i == 0 {
			continue
		}
		if whole == "" {
			from = i + 1
			line = strings.TrimSpace(line)
		}
		if rest, more := strings.CutSuffix(line, `\`); more && strings.Contains(whole+line, "=hex") {
			whole += strings.TrimSpace(rest)
			continue
		}
		whole += strings.TrimSpace(line)
		line, whole = whole, ""
		switch {
		case line == "" || line[0] == ';':
		case line[0] == '[' && line[len(line)-1] == ']':
			path = strings.TrimPrefix(line[1:len(line)-1], "-")
			if strings.HasPrefix(line, "[-") {
				path = ""
			}
		case path == "":
		default:
			v, gone, err := registryValue(line)
			if err != nil {
				return nil, fmt.Errorf("line %d: %w", from, err)
			}
			if v.Path, v.Line = path, from; !gone {
				list = append(list, v)
			}
		}
		if len(list) > mostFound {
			return nil, fmt.Errorf("more than %d values", mostFound)
		}
	}
	return list, nil
}

// registryValue reads "name"=data, or @=data.
func registryValue(line string) (v RegistryValue, gone bool, err error) {
	rest, ok := strings.CutPrefix(line, "@")
	if !ok {
		if v.Name, rest, ok = quoted(line); !ok {
			return v, false, errors.New(`expected "name"=data`)
		}
	}
	data, ok := strings.CutPrefix(strings.TrimSpace(rest), "=")
	switch {
	case !ok:
		return v, false, errors.New(`expected "=" after the name`)
	case data == "-":
		return v, true, nil
	case strings.HasPrefix(data, `"`):
		if v.Text, rest, ok = quoted(data); !ok || rest != "" {
			return v, false, errors.New("a string without its end")
		}
		return v, false, nil
	}
	kind, number, ok := strings.Cut(data, ":")
	if !ok {
		return v, false, errors.New("expected a string, dword:… or hex:…")
	}
	if kind == "dword" {
		n, err := strconv.ParseUint(strings.TrimSpace(number), 16, 32)
		if err != nil {
			return v, false, errors.New("dword: with no number of eight digits")
		}
		v.Text = strconv.FormatUint(n, 10)
		return v, false, nil
	}
	raw, err := hex.DecodeString(strings.NewReplacer(",", "", " ", "").Replace(number))
	if err != nil {
		return v, false, errors.New("hex: with what is no hexadecimal number")
	}
	switch kind {
	case "hex(1)", "hex(2)", "hex(7)":
		units := make([]uint16, 0, len(raw)/2)
		for at := 0; at+1 < len(raw); at += 2 {
			units = append(units, binary.LittleEndian.Uint16(raw[at:]))
		}
		v.Text = strings.ReplaceAll(strings.Trim(string(utf16.Decode(units)), "\x00"), "\x00", "\n")
	case "hex(4)", "hex(b)":
		var n uint64
		for i, b := range raw[:min(len(raw), 8)] {
			n |= uint64(b) << (8 * i)
		}
		v.Text = strconv.FormatUint(n, 10)
	default:
		v.Text = hex.EncodeToString(raw)
	}
	return v, false, nil
}

// quoted takes a string in quotes off, in which a backslash protects quotes
// and itself.
func quoted(s string) (text, rest string, ok bool) {
	if !strings.HasPrefix(s, `"`) {
		return "", s, false
	}
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] == '\\' && i+1 < len(s) && (s[i+1] == '"' || s[i+1] == '\\'):
			i++
			b.WriteByte(s[i])
		case s[i] == '"':
			return b.String(), s[i+1:], true
		default:
			b.WriteByte(s[i])
		}
	}
	return "", s, false
}

// inRegistry is an export as settings: a key is its path with its name behind
// it, with backslashes between.
func inRegistry(text string) ([]Value, error) {
	values, err := Registry([]byte(text))
	if err != nil {
		return nil, err
	}
	var list []Value
	for _, v := range values {
		list = append(list, Value{Key: v.Path + `\` + v.Name, Text: v.Text, Line: v.Line})
	}
	return list, nil
}
