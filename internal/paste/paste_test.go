package paste

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"
)

func written(t testing.TB, data []byte) string {
	t.Helper()
	text, err := Write("RECORD tidebook", data)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

// TestPaste reads back what was written, through whatever it came.
func TestPaste(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for _, size := range []int{0, 1, 1000, 70000} {
		data := make([]byte, size)
		for i := range data {
			data[i] = byte(random.Uint32())
		}
		text := written(t, data)
		for line := range strings.Lines(text) {
			if len(strings.TrimSuffix(line, "\n")) > 76 {
				t.Fatalf("%d columns: %q", len(line)-1, line)
			}
		}
		for name, way := range map[string]func(string) string{
			"as it is": func(s string) string { return s },
			"a console": func(s string) string {
				return "tidebook$ uakari record\r\n" + strings.ReplaceAll(s, "\n", "\r\n") + "tidebook$ "
			},
			"a mail":       func(s string) string { return "Hi,\n> " + strings.ReplaceAll(s, "\n", "\n> ") },
			"blanks":       func(s string) string { return "    " + strings.ReplaceAll(s, "\n", "  \n    ") },
			"a prompt":     func(s string) string { return strings.ReplaceAll(s, "\n0", "\n(console) 0") },
			"twice pasted": func(s string) string { return strings.Replace(s, "\n0001", "\n0001 0000 AAAA\n0001", 1) },
		} {
			text := way(text)
			if size == 0 && name == "twice pasted" {
				continue
			}
			got, err := Read([]byte(text))
			if !Is([]byte(text)) || err != nil || !bytes.Equal(got, data) {
				t.Errorf("%d bytes, %s: %d bytes, %v", size, name, len(got), err)
			}
		}
	}
}

// TestDamaged names the lines that are missing or changed.
func TestDamaged(t *testing.T) {
	data := make([]byte, 2000)
	for i := range data {
		data[i] = byte(i * i * 7 >> 3)
	}
	lines := strings.SplitAfter(written(t, data), "\n")
	if len(lines) < 6 {
		t.Fatalf("%d lines", len(lines))
	}
	without := func(at int) string {
		return strings.Join(append(append([]string{}, lines[:at]...), lines[at+1:]...), "")
	}
	changed := strings.Join(lines, "")
	at := strings.Index(changed, "\n0002 ") + 20
	letter := "A"
	if changed[at] == 'A' {
		letter = "B"
	}
	for text, want := range map[string]string{
		without(3):                             "line 0003 is missing",
		without(0):                             "no line",
		without(len(lines) - 2):                "the last line",
		changed[:at] + letter + changed[at+1:]: "line 0002 is damaged",
		"nothing":                              "no line",
	} {
		if _, err := Read([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, expected %q", err, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(written(f, []byte("tide"))))
	f.Fuzz(func(t *testing.T, text []byte) {
		if data, err := Read(text); err == nil && !Is(text) {
			t.Errorf("%q of a text without a beginning", data)
		}
	})
}
