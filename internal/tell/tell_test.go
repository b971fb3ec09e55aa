package tell

import (
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"uakari/internal/weigh/catalogue"

	"unicode/utf8"

	"uakari/internal/foreign"
	"uakari/internal/trail"
)

var update = flag.Bool("update", false, "rewrite the golden files")

// TestText compares the text of kept trails with golden files: each
// testdata/NAME.json is told as testdata/NAME.txt.
func TestText(t *testing.T) {
	time.Local = time.UTC
	inputs, err := filepath.Glob("testdata/*.json")
	if err != nil || len(inputs) == 0 {
		t.Fatalf("no trails in testdata: %v", err)
	}
	for _, input := range inputs {
		t.Run(filepath.Base(input), func(t *testing.T) {
			raw, err := os.ReadFile(input)
			if err != nil {
				t.Fatal(err)
			}
			var judged trail.Trail
			if err := json.Unmarshal(raw, &judged); err != nil {
				t.Fatal(err)
			}
			got := Text(judged, false)
			golden := strings.TrimSuffix(input, ".json") + ".txt"
			if *update {
				if err := os.WriteFile(golden, []byte(got), 0o600); err != nil {
					t.Fatal(err)
				}
			}
			want, err := os.ReadFile(golden)
			if err != nil {
				t.Fatal(err)
			}
			if got != string(want) {
				t.Errorf("got:\n%s\nwant:\n%s", got, want)
			}
			for line := range strings.Lines(got) {
				// Commands and paths are never broken; everything else fits.
				if n := utf8.RuneCountInString(strings.TrimSuffix(line, "\n")); n > width &&
					!strings.HasPrefix(line, "    uakari ") &&
					!strings.HasPrefix(line, "Then: ") &&
					strings.Count(strings.TrimSpace(line), " ") > 2 {
					t.Errorf("a line of %d columns: %q", n, line)
				}
			}
			if plain := stripColour(Text(judged, true)); plain != got {
				t.Errorf("colour changes the text:\n%s", plain)
			}
		})
	}
}

func stripColour(s string) string {
	for {
		before, after, ok := strings.Cut(s, "\x1b[")
		if !ok {
			return s
		}
		_, rest, _ := strings.Cut(after, "m")
		s = before + rest
	}
}

// TestSafe sees that nothing foreign reaches a terminal as it is.
func TestSafe(t *testing.T) {
	for in, want := range map[string]string{
		"tidebook":            "tidebook",
		"tide\u200bbook":      "tide<U+200B>book",
		"\x1b[31mred":         "<U+001B>[31mred",
		"a\nb\tc":             "a b c",
		"\xff":                "<U+FFFD>",
		"várzea":              "várzea",
		"\U000e0041 evil\x00": "<U+E0041> evil<U+0000>",
	} {
		if got := foreign.Printable(in); got != want {
			t.Errorf("%q: got %q, want %q", in, got, want)
		}
	}
	hostile := trail.Trail{
		Endpoint: trail.Endpoint{Host: "x\x1b]0;title\x07", Port: 1}, Command: "uakari trace \x1b[2J",
		Vantages: []trail.Vantage{{ID: "v1", Role: "client", Host: "gauge\x1b[5m"}},
		Rungs: []trail.Finding{{Name: trail.Answer, State: trail.Fault,
			Summary: "\x1b[31m" + strings.Repeat("x", 500)}},
		Causes: []trail.Cause{
			{
				Key:       "c1",
				ID:        "answer/error-status",
				Blocking:  true,
				Certainty: trail.Proven,
				Summary:   "\x9b31m",
				Short:     []string{"\x07"},
				Because: []string{
					"e1",
				},
				Remedies: []trail.Remedy{{Do: "\x1b", Command: "\x1bc", Host: "\x1b", Owner: "\x1b", Risk: "\x1b",
					Undo: "\x1b"}},
			},
		},
		Evidence: []trail.Evidence{{ID: "e1", Vantage: "v1", Source: "\x1b", Saw: "\x1b\x00"}},
		Tell:     &trail.Tell{Look: "\x1b", Command: "\x1b"},
	}
	if got := Text(hostile, false); strings.ContainsAny(got, "\x1b\x07\x00") || strings.Contains(got, "\x9b") {
		t.Errorf("control characters get through: %q", got)
	}
}

func TestWrap(t *testing.T) {
	for _, c := range []struct {
		text string
		want string
	}{
		{"", ""}, {"one", "one"}, {"one two three", "one two|three"}, {"averyverylongword x", "averyverylongword|x"},
		{"  many   blanks ", "many|blanks"},
	} {
		if got := strings.Join(wrap(c.text, 9), "|"); got != c.want {
			t.Errorf("%q: got %q, want %q", c.text, got, c.want)
		}
	}
}

// TestExplainOnWindows sees that nothing is told to a reader of Windows that
// only a reader of Linux can type.
func TestExplainOnWindows(t *testing.T) {
	linux := regexp.MustCompile(
		`systemctl|journalctl|\bnft\b|sysctl|/etc/|\bip (route|link)\b|\bsed -i|\bchmod\b|\bexport |timedatectl|` +
			`\bss -|as root`,
	)
	for _, id := range catalogue.CauseIDs() {
		e, _ := catalogue.Explain(id)
		if id == "rules/wrapper-deny" {
			continue // such wrappers are Linux's alone
		}
		if found := linux.FindString(Explain(e, "windows", true, false)); found != "" {
			t.Errorf("%s tells of %q", id, found)
		}
	}
}

// TestExplain sees that every cause can be told in 80 columns.
func TestExplain(t *testing.T) {
	for _, id := range catalogue.CauseIDs() {
		e, _ := catalogue.Explain(id)
		text := Explain(e, "linux", true, false)
		if !strings.HasPrefix(text, id+": ") || strings.Contains(text, "{") {
			t.Errorf("%s: %s", id, text)
		}
		for line := range strings.Lines(text) {
			if utf8.RuneCountInString(line) > width+1 && !strings.HasPrefix(line, id) {
				t.Errorf("%s: a line of %d columns: %q", id, utf8.RuneCountInString(line), line)
			}
		}
	}
}
