//go:build linux

package linux

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// FuzzJournal reads anything as a line of the journal.
func FuzzJournal(f *testing.F) {
	f.Add([]byte(`{"__REALTIME_TIMESTAMP":"1795402800000000","MESSAGE":"x","_SYSTEMD_UNIT":"a.service"}`))
	f.Add([]byte(`{"MESSAGE":[104,105,300,-1]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		line, ok := journalLine(t.Context(), raw)
		if ok && strings.ContainsAny(line.Text, "\x1b\n\x00") {
			t.Errorf("%q reaches the facts", line.Text)
		}
	})
}

// FuzzKeyTable reads anything as a table of keys.
func FuzzKeyTable(f *testing.F) {
	f.Add([]byte("\x05\x02\x00\x00\x00\x10\x00\x01\x00\x01a\x00\x01b"))
	f.Fuzz(func(t *testing.T, text []byte) {
		path := filepath.Join(t.TempDir(), "table")
		if err := os.WriteFile(path, text, 0o600); err != nil {
			t.Fatal(err)
		}
		readKeyTable(path)
	})
}

// FuzzPAM reads anything as a stack of PAM, which may include others.
func FuzzPAM(f *testing.F) {
	f.Add([]byte("account required pam_access.so accessfile=/x\n@include common-account\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if bytes.Contains(text, []byte("nclude")) {
			return // of this host
		}
		path := filepath.Join(t.TempDir(), "stack")
		if err := os.WriteFile(path, text, 0o600); err != nil {
			t.Fatal(err)
		}
		pamAccess(path, 0)
	})
}
