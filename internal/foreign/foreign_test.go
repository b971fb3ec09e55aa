package foreign

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"
	"unicode"
)

// TestJSONHidesNothing sees that what is read back is what was written, and
// that nothing in the text between can hide or turn it.
func TestJSONHidesNothing(t *testing.T) {
	hostile := "a\u0080b\u009fc\u202ed\u2066e\u200bf\ufeffg\u2028h\u061ci\U000e0041j\x7fk\x1b"
	raw, err := JSON(map[string]string{hostile: hostile}, " ")
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range string(raw) {
		if r != '\n' && !unicode.IsPrint(r) {
			t.Errorf("%U stands in %q", r, raw)
		}
	}
	var back map[string]string
	if err := json.Unmarshal(raw, &back); err != nil || back[hostile] != hostile {
		t.Errorf("read back: %v %q", err, back)
	}
	if raw, _ := JSON("Várzea <b>", ""); string(raw) != "\"Várzea <b>\"\n" {
		t.Errorf("letters are escaped: %s", raw)
	}
}

func TestPrintable(t *testing.T) {
	for in, want := range map[string]string{
		"Várzea": "Várzea", "a\nb\tc": "a b c", "\x1b[2J": "<U+001B>[2J", "a\u200bb": "a<U+200B>b", "\xff": "<U+FFFD>",
		"\U000e0041": "<U+E0041>",
	} {
		if got := Printable(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
	if got := Clean(strings.Repeat("x", 300) + "\x00"); len([]rune(got)) != 201 || strings.ContainsRune(got, 0) {
		t.Errorf("%d characters", len(got))
	}
}

func TestShellWord(t *testing.T) {
	for in, want := range map[string]string{"": "''", "a-b_c.d/e": "a-b_c.d/e", "a b": "'a b'", "it's": `'it'\''s'`,
		"~x": "'~x'", "$x": "'$x'"} {
		if got := ShellWord(in); got != want {
			t.Errorf("%q: %s, want %s", in, got, want)
		}
	}
}

func TestJSONListIsJSON(t *testing.T) {
	type row struct {
		Name string `json:"name"`
	}
	type page struct {
		Host string `json:"host"`
		Rows []row  `json:"rows"`
		More string `json:"more,omitempty"`
	}
	for _, many := range []int{0, 1, 2, piece, piece + 1, 9 * piece} {
		list := make([]row, many)
		for i := range list {
			list[i].Name = fmt.Sprintf("tide\u202e<%d>", i)
		}
		whole, err := JSON(page{`"rows":[]`, list, "ebb"}, "")
		var parts bytes.Buffer
		err2 := JSONList(&parts, page{`"rows":[]`, []row{}, "ebb"}, "rows", list)
		if err != nil || err2 != nil || string(whole) != parts.String() {
			t.Errorf("%d: %v, %v\n%.200s\n%.200s", many, err, err2, whole, parts.String())
		}
	}
	if err := JSONList(io.Discard, page{}, "rows", []row{}); err == nil {
		t.Error("a value without the list is taken")
	}
}
