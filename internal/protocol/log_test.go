package protocol

import (
	"strings"
	"testing"

	"uakari/internal/redact"
)

// TestLogWordsAreKept is the words by which logs tell why a login was refused, within a
// line: what may be a secret is hidden before they are read, and they must stand.
func TestLogWordsAreKept(t *testing.T) {
	for _, p := range All {
		for _, l := range p.Log {
			line := "tidebook: " + l.Text + " \"gauge\""
			if kept := redact.LogLine(line); !strings.Contains(kept, l.Text) {
				t.Errorf("%s: of %q is kept %q", p.Name, line, kept)
			}
		}
	}
}
