package tell

import (
	"strings"
	"testing"

	"uakari/internal/weigh/catalogue"
)

// TestExamples is that a page of a cause has no place left open.
func TestExamples(t *testing.T) {
	for _, id := range catalogue.CauseIDs() {
		e, _ := catalogue.Explain(id)
		for line := range strings.Lines(Explain(e, "linux", true, false) + Explain(e, "windows", true, false)) {
			if place.MatchString(line) {
				t.Errorf("%s: %s", id, strings.TrimSpace(line))
			}
		}
	}
}
