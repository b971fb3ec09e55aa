// Package foreign makes foreign text harmless for where it goes: printable on a
// terminal, escaped in JSON, quoted for a shell, and without secrets.
//
// It is pure: no input or output, no clock.
package foreign

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"
)

// mostHead bounds a text that is kept of a peer, in characters.
const mostHead = 200

// Clean makes foreign text printable and short: one line of at most 200
// characters, no control or invisible ones.
func Clean(s string) string { return CleanTo(s, mostHead) }

// CleanTo is Clean with a length of one's own, in characters.
func CleanTo(s string, most int) string {
	var b strings.Builder
	n := 0
	for _, r := range s {
		if n == most {
			b.WriteRune('…')
			break
		}
		n++
		switch {
		case r == '\t' || r == '\n' || r == '\r':
			b.WriteByte(' ')
		case Unprintable(r):
			b.WriteByte('.')
		default:
			b.WriteRune(r)
		}
	}
	return strings.TrimSpace(b.String())
}

// Unprintable reports whether a terminal must not be given a character as it
// is: it controls, cannot be seen, turns the direction of a line, or is none.
func Unprintable(r rune) bool { return r == utf8.RuneError || !unicode.IsPrint(r) }

// Printable is a text of one line for a terminal, with what it must not be
// given shown by its number: "<U+200B>".
func Printable(s string) string {
	if strings.IndexFunc(s, Unprintable) < 0 && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '\n' || r == '\t':
			b.WriteByte(' ')
		case Unprintable(r):
			fmt.Fprintf(&b, "<U+%04X>", r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// JSON writes a value as JSON in which every character can be seen: those that
// control, turn the direction of text or have no width are escaped (RFC 8259
// section 7 allows that of any character). It ends with a newline; no indent
// gives one line.
func JSON(value any, indent string) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", indent)
	if err := e.Encode(value); err != nil {
		return nil, err
	}
	return escaped(b.Bytes()), nil
}

// piece is how many items of a long list are encoded at once.
const piece = 512

// JSONList writes a value as JSON in one line, with a list that is empty in the
// value itself under its key. The items of a very long list are encoded side by
// side, and never held all together.
func JSONList[T any](w io.Writer, value any, key string, list []T) error {
	whole, err := JSON(value, "")
	if err != nil {
		return err
	}
	before, after, ok := bytes.Cut(whole, []byte(`"`+key+`":[]`))
	if !ok {
		return fmt.Errorf("no empty list %q in %T", key, value)
	}
	pieces := slices.Collect(slices.Chunk(list, piece))
	texts := [][]byte{before, []byte(`"` + key + `":[`)}
	for at := 0; at < len(pieces); at += runtime.GOMAXPROCS(0) {
		batch := pieces[at:min(len(pieces), at+runtime.GOMAXPROCS(0))]
		made := make([][]byte, len(batch))
		var g errgroup.Group
		for i, items := range batch {
			g.Go(func() error {
				text, err := JSON(items, "")
				if err == nil {
					made[i] = text[:len(text)-2] // without its end, "]" and the end of the line
					made[i][0] = ','             // for its "["
				}
				return err
			})
		}
		if err := g.Wait(); err != nil {
			return err
		}
		if at == 0 {
			made[0] = made[0][1:]
		}
		if err := writeAll(w, append(texts, made...)); err != nil {
			return err
		}
		texts = texts[:0]
	}
	return writeAll(w, append(texts, []byte("]"), after))
}

func writeAll(w io.Writer, texts [][]byte) error {
	for _, text := range texts {
		if _, err := w.Write(text); err != nil {
			return err
		}
	}
	return nil
}

// escaped escapes what cannot be seen. Outside of its strings JSON has none of
// it.
func escaped(raw []byte) []byte {
	at := hidden(raw)
	if at < 0 {
		return raw
	}
	out := make([]byte, 0, len(raw)+64)
	for {
		if at < 0 {
			return append(out, raw...)
		}
		r, size := utf8.DecodeRune(raw[at:])
		out = append(out, raw[:at]...)
		if r > 0xffff {
			high, low := utf16Halves(r)
			out = fmt.Appendf(out, `\u%04x\u%04x`, high, low)
		} else {
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		raw = raw[at+size:]
		at = hidden(raw)
	}
}

// hidden is where the first invisible character is; -1 for none. Nearly all of a
// long text is ASCII, which is passed over byte by byte.
func hidden(raw []byte) int {
	for at := 0; at < len(raw); {
		if raw[at] < 0x7f {
			at++
			continue
		}
		r, size := utf8.DecodeRune(raw[at:])
		if invisible(r) {
			return at
		}
		at += size
	}
	return -1
}

// invisible reports whether a character would hide in a text that people read:
// controls beyond ASCII, and the format characters of Unicode (category Cf),
// among them marks of direction, those of no width, and tags.
func invisible(r rune) bool {
	return r >= 0x7f && (r <= 0x9f || unicode.Is(unicode.Cf, r) || r == 0x2028 || r == 0x2029)
}

// utf16Halves is a character beyond the basic plane as JSON escapes it.
func utf16Halves(r rune) (high, low rune) {
	r -= 0x10000
	return 0xd800 + r>>10, 0xdc00 + r&0x3ff
}

// ShellWord quotes a word for a POSIX shell where it needs to be.
func ShellWord(s string) string {
	special := func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("@%+=:,./-_", r))
	}
	if s != "" && strings.IndexFunc(s, special) < 0 {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
