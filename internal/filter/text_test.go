package filter

import (
	"strings"
	"testing"
)

// TestWords reads rules of iptables and sees that what is written anew from
// their conditions reads the same.
func TestWords(t *testing.T) {
	for _, rule := range []string{
		"-A INPUT -s 10.20.7.0/24 -p tcp --dport 443 -j DROP",
		"-A INPUT ! -s 10.20.7.31 -i eth0 -j ACCEPT",
		"-A INPUT -p udp -m multiport --dports 53,1000:1003 -j REJECT --reject-with icmp-port-unreachable",
		"-A INPUT -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT",
		"-A INPUT -m mark --mark 0x1 -j RETURN",
		"-A INPUT -s fd20:7::/64 -p tcp --dport 22 -j web",
		"-A INPUT -i et+ -g web",
		"-A INPUT -j LOG",
	} {
		r, err := FromSaved([]byte("*filter\n:INPUT ACCEPT [0:0]\n:web - [0:0]\n"+rule+"\nCOMMIT\n"), nil)
		if err != nil {
			t.Errorf("%s: %v", rule, err)
			continue
		}
		read := r.Tables[0].Chains["INPUT"].Rules[0]
		if read.Words() != rule {
			t.Errorf("kept %q of %q", read.Words(), rule)
		}
		read.Text = ""
		if got := read.Words(); sorted(got) != sorted(rule) {
			t.Errorf("wrote %q for %q", got, rule)
		}
	}
}

// sorted leaves the order of states open.
func sorted(s string) string {
	return strings.ReplaceAll(s, "ESTABLISHED,RELATED", "RELATED,ESTABLISHED")
}
