package catalogue

import (
	"regexp"
	"testing"
)

// linux is words and commands that a host with Windows does not know.
var linux = regexp.MustCompile(`\b(?:systemctl|journalctl|chmod|chown|iptables|nft|sysctl|ethtool|unset|export|sed|setfacl|` +
	`resolvectl|ssh-copy-id|usermod|chage|passwd|rndc|aa-complain|restorecon|setenforce)\b|\bip (?:route|link|addr)\b|` +
	`\b(?:mv|cp|rm|cat|ss|dd|grep|kill) [-/{]|\bas root\b|\bat boot\b`)

// TestNothingOfLinuxOnWindows goes over every remedy as a host with Windows is told it.
func TestNothingOfLinuxOnWindows(t *testing.T) {
	for _, id := range CauseIDs() {
		entry, _ := Explain(id)
		for _, r := range entry.On("windows").Remedies {
			texts := map[string]string{"do": r.Do, "command": r.Command, "risk": r.Risk, "undo": r.Undo}
			for what, text := range texts {
				if found := linux.FindString(text); found != "" {
					t.Errorf("%s: %s: %q in %q", id, what, found, text)
				}
			}
		}
	}
}
