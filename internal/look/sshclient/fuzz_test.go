package sshclient

import (
	"os"
	"path/filepath"
	"testing"
)

// FuzzSettings reads anything as settings of an SSH client, also such as
// include themselves.
func FuzzSettings(f *testing.F) {
	f.Add(
		"Host heron *.varzea.example !post\n  HostName %h\n  IdentityFile \"~/a b\"\nMatch all\nInclude config\n",
		"heron",
	)
	f.Fuzz(func(t *testing.T, text, host string) {
		path := filepath.Join(t.TempDir(), "config")
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		s := Settings{map[string][]string{}, map[string]string{}}
		s.read(path, host, 0)
	})
}
