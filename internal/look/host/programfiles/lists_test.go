package programfiles

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
)

// TestAccessLines reads the lines of a file that matter, with their numbers.
func TestAccessLines(t *testing.T) {
	path := put(t, filepath.Join(t.TempDir(), "list"), "# about\r\n\nsshd: 10.20.7.\r\n   \nALL: ALL", 0o600)
	read := func() Source {
		text, by, err := file.Account{}.Settings(path, common.MostSettings)
		return Source{Path: path, Text: text, Err: err, By: by}
	}
	for _, c := range []struct {
		keep *regexp.Regexp
		want []fact.Line
	}{
		{nil, []fact.Line{{Number: 3, Text: "sshd: 10.20.7."}, {Number: 5, Text: "ALL: ALL"}}},
		{regexp.MustCompile(`^sshd`), []fact.Line{{Number: 3, Text: "sshd: 10.20.7."}}},
	} {
		f, err := read().access("hosts.allow", c.keep)
		if err != nil || !slices.Equal(f.Lines, c.want) || f.Changed.IsZero() {
			t.Errorf("%v, %v", f, err)
		}
	}
	if _, err := (Source{Path: path, Err: os.ErrNotExist}).access("list", nil); !os.IsNotExist(err) {
		t.Errorf("no file: %v", err)
	}
	put(t, path, strings.Repeat("10.20.7.1\n", mostLines+1), 0o600)
	if _, err := read().access("list", nil); err == nil {
		t.Error("a list with too many lines is kept as if whole")
	}
}
