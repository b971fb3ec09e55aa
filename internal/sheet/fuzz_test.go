package sheet

import (
	"strings"
	"testing"
)

// FuzzParse reads anything as a sheet: an error is one line.
func FuzzParse(f *testing.F) {
	f.Add([]byte(office))
	f.Fuzz(func(t *testing.T, text []byte) {
		if _, err := Parse("x.yaml", text); err != nil && strings.Contains(err.Error(), "\n") {
			t.Errorf("error of two lines: %q", err)
		}
	})
}
