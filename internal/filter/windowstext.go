package filter

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/settingsfile"
)

// Where the registry keeps the firewall (MS-GPFAS section 2.2.1), below
// HKEY_LOCAL_MACHINE: the host's own word, and the group policy's.
const (
	FirewallKey       = `SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy`
	FirewallPolicyKey = `SOFTWARE\Policies\Microsoft\WindowsFirewall`
)

// registryProfiles is how the registry calls each profile.
var registryProfiles = map[string]string{
	"domainprofile": "domain", "standardprofile": "private", "privateprofile": "private", "publicprofile": "public",
}

// NewFirewall arranges values of the registry as a firewall. Values that are
// elsewhere are passed over.
func NewFirewall(values []settingsfile.RegistryValue) *fact.Firewall {
	f := &fact.Firewall{Rules: []fact.FirewallRule{}}
	for _, name := range profiles {
		f.Profiles = append(f.Profiles, fact.FirewallProfile{Name: name})
	}
	for _, byPolicy := range []bool{false, true} { // the policy's word is the last
		for _, v := range values {
			key, under := beneath(v.Path, byPolicy)
			if !under {
				continue
			}
			switch profile := registryProfiles[key]; {
			case profile != "":
				f.Profiles[slices.Index(profiles, profile)] = profileSays(f.Profiles[slices.Index(profiles, profile)],
					v, byPolicy)
			case key == "firewallrules" && byPolicy:
				f.Rules = append(f.Rules, fact.FirewallRule{ID: v.Name, From: "policy", Text: v.Text})
			case key == "firewallrules":
				f.Rules = append(f.Rules, fact.FirewallRule{ID: v.Name, From: "local", Text: v.Text})
			case strings.HasPrefix(key, `restrictedservices\`):
				f.Rules = append(f.Rules, fact.FirewallRule{ID: v.Name, From: "services", Text: v.Text})
			}
		}
	}
	return f
}

// beneath is a key below the firewall's own, in small letters.
func beneath(path string, byPolicy bool) (string, bool) {
	base := FirewallKey
	if byPolicy {
		base = FirewallPolicyKey
	}
	path, base = strings.ToLower(path), strings.ToLower(base)
	for _, hive := range []string{`hkey_local_machine\`, `hklm\`, ""} {
		if rest, ok := strings.CutPrefix(path, hive+base+`\`); ok {
			return rest, true
		}
	}
	// An export of another set of settings has a number in place of "current".
	if _, rest, ok := strings.Cut(path, `\services\sharedaccess\parameters\firewallpolicy\`); ok && !byPolicy {
		return rest, true
	}
	return "", false
}

func profileSays(p fact.FirewallProfile, v settingsfile.RegistryValue, byPolicy bool) fact.FirewallProfile {
	word := map[string]string{"0": "allow", "1": "block"}[v.Text]
	switch strings.ToLower(v.Name) {
	case "enablefirewall":
		on := v.Text != "0"
		p.On, p.Policy = &on, p.Policy || byPolicy
	case "defaultinboundaction":
		p.Inbound = word
	case "defaultoutboundaction":
		p.Outbound = word
	case "donotallowexceptions":
		p.Shielded = v.Text != "0"
	case "allowlocalpolicymerge":
		p.Alone = byPolicy && v.Text == "0"
	}
	return p
}

// Defaults fills in what Windows does of itself where nothing is said: all
// profiles filter, and block what comes in.
func Defaults(f *fact.Firewall) {
	for i := range f.Profiles {
		p := &f.Profiles[i]
		if p.On == nil {
			on := true
			p.On = &on
		}
		if p.Inbound == "" {
			p.Inbound = "block"
		}
		if p.Outbound == "" {
			p.Outbound = "allow"
		}
	}
}

// fromRegistryText reads an export of the registry.
func fromRegistryText(text []byte) (*Ruleset, error) {
	values, err := settingsfile.Registry(text)
	if err != nil {
		return nil, err
	}
	f := NewFirewall(values)
	if len(f.Rules) == 0 {
		return nil, &SyntaxError{
			1,
			1,
			`no rules of the firewall are in this export; expected HKLM\` + FirewallKey + ` or HKLM\` +
				FirewallPolicyKey,
		}
	}
	Defaults(f)
	return byItself(f)
}

// byItself is a firewall without its host.
func byItself(f *fact.Firewall) (*Ruleset, error) {
	table, err := fromFirewall(f)
	if err != nil {
		return nil, err
	}
	r := &Ruleset{Tables: []*Table{table}}
	r.arrange()
	return r, nil
}

// listingHead begins every rule in the text that Windows lists them in.
const listingHead = "Rule Name:"

func isListing(text []byte) bool {
	return bytes.HasPrefix(bytes.TrimSpace(text), []byte(listingHead))
}

// listed is the fields of that text, as the registry calls them. A field that
// is missing here makes its rule unknown.
var listed = map[string]string{
	"Direction": "Dir", "Protocol": "Protocol", "LocalPort": "LPort", "RemotePort": "RPort", "LocalIP": "LA4",
	"RemoteIP": "RA4",
	"Action":   "Action", "Enabled": "Active", "Profiles": "Profile", "Program": "App", "Service": "Svc",
}

// passed is those that decide nothing.
var passed = []string{"Grouping", "Edge traversal", "Description", "Rule source"}

// protocolNumbers is the protocols that the text has by name.
var protocolNumbers = map[string]string{
	"TCP":    "6",
	"UDP":    "17",
	"ICMPv4": "1",
	"ICMPv6": "58",
	"IGMP":   "2",
	"GRE":    "47",
	"IPv6":   "41",
}

// fromListing reads the text in which Windows lists its rules. What a profile
// says of the rest is not in it: it is taken to block what comes in, as it does
// of itself.
func fromListing(text string) (*Ruleset, error) {
	f := NewFirewall(nil)
	for i, line := range strings.Split(text, "\n") {
		name, value, ok := strings.Cut(line, ":")
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		switch {
		case name+":" == listingHead:
			f.Rules = append(
				f.Rules,
				fact.FirewallRule{ID: value, From: "local", Text: "v2.30|Name=" + strings.ReplaceAll(value, "|", " ") +
					"|"},
			)
			continue
		case !ok || len(f.Rules) == 0 || value == "" || strings.HasPrefix(line, "-----"):
			continue
		case slices.Contains(passed, name):
			continue
		}
		rule := &f.Rules[len(f.Rules)-1]
		fields, err := listedField(name, value)
		if err != nil {
			return nil, &SyntaxError{i + 1, 1, err.Error()}
		}
		rule.Text += fields
	}
	Defaults(f)
	return byItself(f)
}

// listedField is one field of that text in the registry's words.
func listedField(name, value string) (string, error) {
	key, known := listed[name]
	if !known {
		if value == "NotRequired" || value == "Any" || value == "All" {
			return "", nil
		}
		return strings.ReplaceAll(name, " ", "") + "=" + value + "|", nil
	}
	if strings.EqualFold(value, "Any") || strings.EqualFold(value, "All") {
		return "", nil
	}
	switch key {
	case "Active":
		value = map[string]string{"Yes": "TRUE", "No": "FALSE"}[value]
	case "Protocol":
		if number, ok := protocolNumbers[value]; ok {
			value = number
		}
	case "Dir", "Action":
		value = strings.ToUpper(value[:1]) + strings.ToLower(value[1:])
	}
	if value == "" {
		return "", fmt.Errorf("%s has a value that is not understood", name)
	}
	var b strings.Builder
	for each := range strings.SplitSeq(value, ",") {
		fmt.Fprintf(&b, "%s=%s|", key, strings.TrimSpace(each))
	}
	return b.String(), nil
}
