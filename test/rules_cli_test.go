package test

import (
	"encoding/binary"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"
)

const savedTables = `*filter
:INPUT DROP [0:0]
:FORWARD ACCEPT [0:0]
:OUTPUT ACCEPT [0:0]
:web - [0:0]
-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A INPUT -i lo -j ACCEPT
-A INPUT -p tcp -m tcp --dport 443 -j web
-A INPUT -p tcp -m tcp --dport 80 -m limit --limit 5/sec -j ACCEPT
-A web -s 10.20.7.0/24 -m comment --comment "gauges moved" -j REJECT --reject-with icmp-port-unreachable
-A web -j ACCEPT
-A OUTPUT -d 10.20.9.0/24 -j DROP
COMMIT
`

// TestSavedTables judges packets by a colleague's dump.
func TestSavedTables(t *testing.T) {
	file := write(t, filepath.Join(t.TempDir(), "rules.v4"), savedTables)
	for _, c := range []struct {
		args   []string
		status int
		first  string
		also   []string
	}{
		{[]string{"--from", "10.20.7.31", "--to", "10.20.0.14:443"}, 1,
			"No: 10.20.7.31 to 10.20.0.14:443/tcp is stopped on the host by rule 1 of ip filter, chain web.",
			[]string{"refused with icmp-port-unreachable", "iptables -I web 1 -s 10.20.7.31/32 -p tcp -m tcp " +
				"--dport 443 -j ACCEPT", "risk: it opens 443/tcp to 10.20.7.31 and to nobody else"}},
		{[]string{"--from", "10.20.8.31", "--to", "10.20.0.14:443"}, 0,
			"Yes: 10.20.8.31 to 10.20.0.14:443/tcp passes, and its reply.", nil},
		{[]string{"--from", "10.20.9.31", "--to", "10.20.0.14:443"}, 1,
			"No: 10.20.9.31 to 10.20.0.14:443/tcp passes, and its reply is stopped on the host by rule 1 of ip " +
				"filter, chain OUTPUT.", nil},
		{[]string{"--from", "10.20.7.31", "--to", "10.20.0.14:22"}, 1,
			"No: 10.20.7.31 to 10.20.0.14:22/tcp is stopped on the host by the policy of ip filter, chain INPUT.",
			nil},
		{[]string{"--from", "10.20.8.31", "--to", "10.20.0.14:80"}, 3,
			"Not known whether 10.20.8.31 to 10.20.0.14:80/tcp passes.", []string{"it depends on limit"}},
		{[]string{"--hook", "out", "--from", "10.20.0.14", "--to", "10.20.9.31:443"}, 1,
			"No: 10.20.0.14 to 10.20.9.31:443/tcp is stopped on the host by rule 1 of ip filter, chain OUTPUT.", nil},
		{[]string{"--hook", "through", "--from", "10.20.7.31", "--to", "10.20.9.31:443"}, 0, "Yes:", nil},
		{[]string{"--transport", "icmp", "--from", "10.20.7.31", "--to", "10.20.0.14"}, 1,
			"No: 10.20.7.31 to 10.20.0.14 (icmp) is stopped", nil},
		{[]string{"--transport", "udp", "--from", "10.20.7.31:4000", "--to", "10.20.0.14:53"}, 1, "No:", nil},
		{[]string{"--from", "10.20.7.31", "--to", "10.20.0.14:443", "--suppose",
			"-I INPUT 3 -s 10.20.7.0/24 -p tcp --dport 443 -j ACCEPT"}, 1, "No:",
			[]string{"after:  accept, its reply accept",
				"opens 443/tcp of 10.20.0.14 to 10.20.7.0/24: 10.20.7.31 and 255 others"}},
		{[]string{"--from", "10.20.7.31", "--to", "10.20.0.14:443", "--suppose", "-D web 1"}, 1, "No:",
			[]string{"opens 443/tcp of 10.20.0.14 to 10.20.7.0/24"}},
		{[]string{"--from", "10.20.8.31", "--to", "10.20.0.14:443", "--suppose", "-I web 1 -j DROP"}, 0, "Yes:",
			[]string{"after:  drop", "closes 443/tcp of 10.20.0.14 to 0.0.0.0/5"}},
	} {
		r := run(t, append([]string{"rules", "--tables", file}, c.args...)...)
		if r.status != c.status || !strings.HasPrefix(oneLine(r.stdout), c.first) {
			t.Errorf("%v: status %d, want %d and %q\n%s%s", c.args, r.status, c.status, c.first, r.stdout, r.stderr)
		}
		flat := oneLine(r.stdout)
		for _, want := range c.also {
			if !strings.Contains(flat, oneLine(want)) {
				t.Errorf("%v: it does not say %q\n%s", c.args, want, r.stdout)
			}
		}
		j := run(t, append([]string{"rules", "--json", "--tables", file}, c.args...)...)
		validate(t, "journey", []byte(j.stdout))
		if j.status != c.status {
			t.Errorf("%v: status %d as JSON", c.args, j.status)
		}
	}
}

// TestUnreadableTables sees that what cannot be read is said in one line.
func TestUnreadableTables(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"cut off": {savedTables[:len(savedTables)-8], "without COMMIT"},
		"empty":   {"", "1:1: the file is empty"},
		"no chain": {"*filter\n:INPUT ACCEPT [0:0]\n-A FORWARD -j DROP\nCOMMIT\n",
			`3:4: the chain "FORWARD" was not declared`},
		"a loop": {"*filter\n:INPUT ACCEPT [0:0]\n:a - [0:0]\n:b - [0:0]\n-A INPUT -j a\n-A a -j b\n-A b -j " +
			"a\nCOMMIT\n", "jumps in a loop"},
		"bad address": {"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -s 10.20.300.1 -j DROP\nCOMMIT\n",
			`3:13: "10.20.300.1": expected an address or a net`},
		"not UTF-8": {"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -m comment --comment \"\xff\" -j DROP\nCOMMIT\n",
			"3:1: not UTF-8"},
		"half JSON":  {`{"nftables": [`, "cut off"},
		"other JSON": {`{"a": 1}`, `expected an object with the list "nftables"`},
		"own text":   {"table inet filter {\n}\n", "nft -j list ruleset"},
	} {
		file := write(t, filepath.Join(t.TempDir(), "tables"), c.text)
		r := run(t, "rules", "--tables", file, "--from", "10.20.7.31", "--to", "10.20.0.14:443")
		if r.status != 2 || !strings.Contains(r.stderr, c.want) || strings.Count(r.stderr, "\n") != 1 {
			t.Errorf("%s: status %d, %q; want %q", name, r.status, r.stderr, c.want)
		}
	}
}

// TestRulesUsage sees that flags which make no sense are said in one line.
func TestRulesUsage(t *testing.T) {
	for _, args := range [][]string{
		{}, {"--from", "10.20.7.31"}, {"--from", "x", "--to", "10.20.0.14:443"},
		{"--from", "10.20.7.31", "--to", "10.20.0.14"},
		{"--from", "10.20.7.31", "--to", "[fd20::14]:443"}, {"--from", "10.20.7.31", "--to", "10.20.0.14:443",
			"--transport", "sctp"},
		{"--from", "10.20.7.31", "--to", "10.20.0.14:443", "--tables", "/nowhere"},
		{"--from", "10.20.7.31", "--to", "10.20.0.14:443"}, // neither is this host's
		{"--from", "127.0.0.1", "--to", "127.0.0.1:443", "--suppose", "frobnicate"},
	} {
		if r := run(t, append([]string{"rules"}, args...)...); r.status != 2 || strings.Count(r.stderr, "\n") != 1 {
			t.Errorf("%v: status %d, %q", args, r.status, r.stderr)
		}
	}
}

// firewallExport is the firewall of a Windows host as its registry is exported.
const firewallExport = `Windows Registry Editor Version 5.00

[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy\DomainProfile]
"EnableFirewall"=dword:00000001
"DefaultInboundAction"=dword:00000001

[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy\StandardProfile]
"EnableFirewall"=dword:00000001

[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy\PublicProfile]
"EnableFirewall"=dword:00000001

[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy\FirewallRules]
"{1}"="v2.30|Action=Allow|Active=TRUE|Dir=In|Protocol=6|LPort=443|Name=Portal|"
"{2}"="v2.30|Action=Block|Active=TRUE|Dir=In|Protocol=6|LPort=443|RA4=10.20.9.0/255.255.255.0|Name=Old yard|"
"{3}"="v2.30|Action=Allow|Active=FALSE|Dir=In|Protocol=6|LPort=22|Name=Shell|"
"{4}"="v2.30|Action=Allow|Active=TRUE|Dir=In|Protocol=6|Profile=Domain|Profile=Private|LPort=5432|Name=Ledger|"
"{5}"="v2.30|Action=Allow|Active=TRUE|Dir=In|Protocol=6|LPort2_10=8000-8010|RA4=10.20.7.30-10.20.7.40|App=C:\\tides\\tidebook.exe|Name=Tidebook|"
"{6}"="v2.30|Action=Block|Active=TRUE|Dir=Out|Protocol=6|RPort=25|Name=No mail|"
"{7}"="v2.30|Action=Allow|Active=TRUE|Dir=In|Protocol=1|ICMP4=8:*|Name=Echo|"
"{8}"="v2.30|Action=Allow|Active=TRUE|Dir=In|Protocol=6|LPort=3389|RA4=LocalSubnet|Name=Screens|"
"{9}"="v2.30|Action=Allow|Active=TRUE|Dir=In|Protocol=6|LPort=7001|RA4=10.20.7.31|Security=Authenticate|Name=Proven peers|"
"{A}"="v2.40|Action=Allow|Active=TRUE|Dir=In|Protocol=17|LPort=53|Tide=high|Name=Names|"
`

const firewallListing = `
Rule Name:                            Portal
----------------------------------------------------------------------
Enabled:                              Yes
Direction:                            In
Profiles:                             Domain,Private,Public
Grouping:
LocalIP:                              Any
RemoteIP:                             10.20.7.0/24
Protocol:                             TCP
LocalPort:                            443,8443
RemotePort:                           Any
Edge traversal:                       No
Action:                               Allow

Rule Name:                            Old yard
----------------------------------------------------------------------
Enabled:                              Yes
Direction:                            In
Profiles:                             Domain,Private,Public
RemoteIP:                             10.20.7.99/32
Protocol:                             TCP
LocalPort:                            443
Action:                               Block
`

// TestFirewallOfWindows judges packets by what a colleague sends of a Windows
// host: an export of its registry, and the text in which it lists its rules.
func TestFirewallOfWindows(t *testing.T) {
	dir := t.TempDir()
	wide := []byte{0xff, 0xfe}
	for _, unit := range utf16.Encode([]rune(strings.ReplaceAll(firewallExport, "\n", "\r\n"))) {
		wide = binary.LittleEndian.AppendUint16(wide, unit)
	}
	export, listing := write(
		t,
		filepath.Join(dir, "firewall.reg"),
		string(wide),
	), write(
		t,
		filepath.Join(dir, "rules.txt"),
		firewallListing,
	)
	for _, c := range []struct {
		file   string
		args   []string
		status int
		want   []string
	}{
		{export, []string{"--from", "10.20.7.31", "--to", "10.20.0.14:443"}, 0, []string{"Yes: "}},
		{export, []string{"--from", "10.20.9.31", "--to", "10.20.0.14:443"}, 1,
			[]string{"is stopped on the host by rule 3 of Windows firewall, chain inbound", "Old yard",
				"Set-NetFirewallRule -DisplayName 'Old yard' -RemoteAddress " +
					"10.20.9.0-10.20.9.30,10.20.9.32-10.20.9.255",
				"undo: Set-NetFirewallRule -DisplayName 'Old yard' -RemoteAddress 10.20.9.0/255.255.255.0"}},
		{export, []string{"--from", "10.20.7.31", "--to", "10.20.0.14:22"}, 1,
			[]string{"by the policy of Windows firewall, chain inbound", "New-NetFirewallRule",
				"-RemoteAddress 10.20.7.31 -Direction Inbound -LocalPort 22", "Remove-NetFirewallRule"}},
		{export, []string{"--from", "10.20.7.31", "--to", "10.20.0.14:5432"}, 3,
			[]string{"which is in force is not known"}},
		{export, []string{"--from", "10.20.7.31", "--to", "10.20.0.14:8005"}, 3, []string{`C:\tides\tidebook.exe`}},
		{export, []string{"--from", "10.20.8.31", "--to", "10.20.0.14:8005"}, 1, []string{"policy"}},
		{export, []string{"--from", "10.20.7.31", "--to", "10.20.0.14:3389"}, 3, []string{"LocalSubnet"}},
		{export, []string{"--from", "10.20.7.31", "--to", "10.20.0.14:7001"}, 3, []string{"prove who they are"}},
		{export, []string{"--from", "10.20.8.31", "--to", "10.20.0.14:7001"}, 1, nil},
		{export, []string{"--transport", "udp", "--from", "10.20.7.31", "--to", "10.20.0.14:53"}, 3,
			[]string{"its field Tide is not understood"}},
		{export, []string{"--transport", "icmp", "--from", "10.20.7.31", "--to", "10.20.0.14"}, 0, nil},
		{export, []string{"--hook", "out", "--from", "10.20.0.14", "--to", "10.20.9.31:25"}, 1, []string{"No mail"}},
		{export, []string{"--hook", "out", "--from", "10.20.0.14", "--to", "10.20.9.31:443"}, 0, nil},
		{export, []string{"--from", "fd20:7::31", "--to", "[fd20::14]:443"}, 0, nil},
		{listing, []string{"--from", "10.20.7.31", "--to", "10.20.0.14:8443"}, 0, nil},
		{listing, []string{"--from", "10.20.8.31", "--to", "10.20.0.14:8443"}, 1, []string{"policy"}},
		{listing, []string{"--from", "10.20.7.99", "--to", "10.20.0.14:443"}, 1, []string{"Old yard"}},
	} {
		r := run(t, append([]string{"rules", "--tables", c.file}, c.args...)...)
		if r.status != c.status {
			t.Errorf("%v: status %d, want %d\n%s%s", c.args, r.status, c.status, r.stdout, r.stderr)
		}
		for _, want := range c.want {
			if !strings.Contains(oneLine(r.stdout), oneLine(want)) {
				t.Errorf("%v: it does not say %q\n%s", c.args, want, r.stdout)
			}
		}
	}
	for text, want := range map[string]string{
		strings.Replace(firewallExport, "LPort=443|Name=Portal", "LPort=999999|Name=Portal",
			1): "the firewall's rule {1}: port 999999 is not understood",
		strings.Replace(firewallExport, `"{1}"="v2`, `"{1}"=v2`,
			1): "line 14: expected a string, dword:… or hex:…",
		"Windows Registry Editor Version 5.00\n\n[HKEY_LOCAL_MACHINE\\SOFTWARE]\n": "no rules of the " +
			"firewall are in this export",
		"Rule Name: x\nDirection:  In\nAction:  Allow\nEnabled:  Perhaps\n": "Enabled has a " +
			"value that is not understood",
	} {
		file := write(t, filepath.Join(dir, "wrong"), text)
		if r := run(t, "rules", "--tables", file, "--from", "10.20.7.31", "--to", "10.20.0.14:443"); r.status != 2 ||
			!strings.Contains(r.stderr, want) ||
			strings.Count(r.stderr, "\n") != 1 {
			t.Errorf("%q: %+v", want, r)
		}
	}
}
