//go:build linux

package linux

import (
	"path/filepath"
	"testing"

	"uakari/internal/look/file"
	"uakari/internal/look/host/programfiles"
)

// TestAsksPAM is settings of sshd, and stacks that ask for rules by source.
func TestAsksPAM(t *testing.T) {
	dir := t.TempDir()
	written := func(name, text string) string { return put(t, filepath.Join(dir, name), text, 0o600) }
	for text, want := range map[string]bool{"UsePAM yes\n": true, "usepam yes # really\n": true,
		"#UsePAM yes\n": false, "Port 22\n": false, "UsePAM no\nUsePAM yes\n": false} {
		if got := asksPAM(programfiles.WithIncluded([]string{written("sshd", text)}, file.Account{})); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
	for text, want := range map[string]string{
		"account required pam_access.so\n":                         usualAccess,
		"account required pam_access.so accessfile=/etc/tides\n":   "/etc/tides",
		"account requisite pam_access.so noaudit\n":                usualAccess,
		"account sufficient pam_access.so\n":                       "",
		"account [success=1 default=ignore] pam_access.so\n":       "",
		"account required pam_access.so nodefgroup\n":              "",
		"# account required pam_access.so\nauth required x.so\n":   "",
		"account required pam_unix.so\n@include no-such-stack-7\n": "",
	} {
		if got := pamAccess(written("stack", text), 0); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}
