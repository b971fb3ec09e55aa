package filter

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
)

// windowsRule is one rule of the firewall of Windows.
type windowsRule struct {
	id, from, name, action  string
	on, in                  bool
	proto                   int // -1: any
	profiles                []string
	local, remote           []Range
	localAddrs, remoteAddrs []string
	icmp                    []icmpMessage
	app, service            string
	unknown                 []string // what of it cannot be judged, and why
	localWords, remoteWords []string // ports as the rule has them, for people
}

type icmpMessage struct {
	kind byte
	code int // -1: any
}

// step is when the rule is asked.
func (r windowsRule) step() string {
	switch {
	case r.from == "services" && r.action == "block":
		return "services"
	case r.action == "bypass":
		return "bypass"
	}
	return r.action
}

// words is the rule for people.
func (r windowsRule) words() string {
	parts := []string{fmt.Sprintf("%q: %s", r.name, r.action)}
	switch {
	case r.proto == int(TCP) || r.proto == int(UDP):
		parts = append(parts, protoName(uint8(r.proto)))
	case r.proto >= 0:
		parts = append(parts, fmt.Sprintf("protocol %d", r.proto))
	}
	if len(r.localWords) > 0 {
		parts = append(parts, "port "+strings.Join(r.localWords, ","))
	}
	if len(r.remoteWords) > 0 {
		parts = append(parts, "peer's port "+strings.Join(r.remoteWords, ","))
	}
	if len(r.remoteAddrs) > 0 {
		parts = append(parts, "peer "+strings.Join(r.remoteAddrs, ","))
	}
	if len(r.localAddrs) > 0 {
		parts = append(parts, "at "+strings.Join(r.localAddrs, ","))
	}
	if r.app != "" {
		parts = append(parts, "for "+r.app)
	}
	if r.service != "" {
		parts = append(parts, "for the service "+r.service)
	}
	if len(r.profiles) > 0 {
		parts = append(parts, "in "+strings.Join(r.profiles, ","))
	}
	return strings.Join(parts, " ")
}

// silent is fields that decide nothing over a packet of a new connection from
// outside, or over one that goes out.
var silent = []string{
	"Name", "Desc", "EmbedCtxt", "Edge", "Defer", "LOM", "TTK", "TTK2_22", "TTK2_27", "TTK2_28", "SkipVer",
	"AuthByPassOut", "CSPath",
}

var errNoRule = errors.New("no rule of the form v2.30|Action=…|")

// readWindowsRule reads a rule in the registry's words (MS-GPFAS section 2.2.2).
func readWindowsRule(in fact.FirewallRule) (windowsRule, error) {
	r := windowsRule{id: in.ID, from: in.From, name: in.ID, proto: -1}
	fields := strings.Split(in.Text, "|")
	if len(fields) < 2 || !strings.HasPrefix(fields[0], "v2.") {
		return r, errNoRule
	}
	for _, field := range fields[1:] {
		key, value, ok := strings.Cut(field, "=")
		if field == "" {
			continue
		}
		if !ok {
			return r, fmt.Errorf("%q is no key=value", field)
		}
		if err := r.take(key, value); err != nil {
			return r, err
		}
	}
	if r.action == "" {
		return r, errors.New("it has no action")
	}
	if strings.HasPrefix(r.name, "@") {
		r.name = r.id // a text of a library, which is not read
	}
	return r, nil
}

// take takes one field. What is not known makes the rule unknown.
func (r *windowsRule) take(key, value string) error {
	bad := func() error { return fmt.Errorf("%s=%s is not understood", key, value) }
	doubt := func(why string) { r.unknown = append(r.unknown, why) }
	switch base, _, _ := strings.Cut(key, "2_"); {
	case key == "Name":
		r.name = value
	case slices.Contains(silent, key):
	case key == "Action":
		r.action = strings.ToLower(value)
		if !slices.Contains([]string{"allow", "block", "bypass"}, r.action) {
			return bad()
		}
	case key == "Active":
		r.on = strings.EqualFold(value, "TRUE")
	case key == "Dir":
		r.in = strings.EqualFold(value, "In")
	case key == "Profile":
		if p := strings.ToLower(value); slices.Contains(profiles, p) {
			r.profiles = append(r.profiles, p)
		} else if p != "all" {
			return bad()
		}
	case key == "Protocol":
		if r.proto = number(value, 255); r.proto < 0 {
			return bad()
		}
	case base == "LPort":
		r.localWords = append(r.localWords, value)
		return r.port(&r.local, value)
	case base == "RPort":
		r.remoteWords = append(r.remoteWords, value)
		return r.port(&r.remote, value)
	case strings.HasPrefix(key, "RA4"), strings.HasPrefix(key, "RA6"):
		r.remoteAddrs = append(r.remoteAddrs, value)
	case strings.HasPrefix(key, "LA4"), strings.HasPrefix(key, "LA6"):
		r.localAddrs = append(r.localAddrs, value)
	case key == "ICMP4", key == "ICMP6":
		kind, code, _ := strings.Cut(value, ":")
		n := number(kind, 255)
		if n < 0 {
			return bad()
		}
		r.icmp = append(r.icmp, icmpMessage{byte(n), number(code, 255)})
	case key == "App":
		r.app = value
	case key == "Svc":
		r.service = value
	case key == "IFType":
		if !strings.EqualFold(value, "All") {
			doubt("the rule is for links of the kind " + value)
		}
	case key == "IF":
		doubt("the rule is for one link, " + value)
	case base == "Security":
		doubt("the rule is for peers that prove who they are")
	case key == "Platform", key == "Platform2":
		doubt("the rule is for some versions of Windows, " + value)
	case key == "AppPkgId", key == "PFN", key == "LUOwn":
		doubt("the rule is for an installed package or its user")
	default:
		doubt("its field " + key + " is not understood")
	}
	return nil
}

// port takes a port, a range, or a word for ports that the host chooses.
func (r *windowsRule) port(list *[]Range, value string) error {
	low, high, ranged := strings.Cut(value, "-")
	if !ranged {
		high = low
	}
	from, to := number(low, 65535), number(high, 65535)
	switch {
	case from >= 0 && to >= from:
		*list = append(*list, Range{uint16(from), uint16(to)})
	case value != "" && strings.Trim(value, "0123456789-") == "":
		return fmt.Errorf("port %s is not understood", value)
	case strings.EqualFold(value, "RPC-EPMap"):
		*list = append(*list, Range{135, 135})
	default:
		r.unknown = append(r.unknown, "which ports "+value+" stands for is not known")
	}
	return nil
}
