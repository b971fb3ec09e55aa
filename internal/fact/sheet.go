package fact

import (
	"errors"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Sheet is security rules that no host can be asked for ("uakari.sheet/1"):
// groups and access lists of a cloud or a firewall, its routes, and the ranges
// of addresses that an application serves.
type Sheet struct {
	Format string              `json:"format" yaml:"format"`
	Name   string              `json:"name" yaml:"name"`
	Groups map[string][]string `json:"groups,omitempty" yaml:"groups"` // named lists of addresses and nets
	Layers []Layer             `json:"layers,omitempty" yaml:"layers"` // in the order in which packets meet them
	Routes []SheetRoutes       `json:"routes,omitempty" yaml:"routes"`
	Scopes *Scopes             `json:"scopes,omitempty" yaml:"scopes"`
	SignIn *SignIn             `json:"sign_in,omitempty" yaml:"sign-in"`
	// Machines is how hosts stand that nobody can be asked for, by those who
	// run them.
	Machines []Machine `json:"machines,omitempty" yaml:"machines"`
	// Forwards is addresses in front of others, as a cluster's services are.
	Forwards []Forward `json:"forwards,omitempty" yaml:"forwards"`
}

// Forward is an address and port that leads on to others.
type Forward struct {
	Name string   `json:"name" yaml:"name"`
	From string   `json:"from" yaml:"from"`         // "10.96.0.10:443"
	To   []string `json:"to,omitempty" yaml:"to"`   // "10.244.1.5:8443"; none: nobody is behind it
	Why  string   `json:"why,omitempty" yaml:"why"` // why nobody is
}

// Machine is how one host stands, from outside: its power, and the checks of
// what it runs on.
type Machine struct {
	Address string    `json:"address" yaml:"address"`
	Name    string    `json:"name,omitempty" yaml:"name"`
	Power   string    `json:"power" yaml:"power"`               // "on" or "off"
	Checks  string    `json:"checks,omitempty" yaml:"checks"`   // "passed" or "failed"
	Console string    `json:"console,omitempty" yaml:"console"` // where to look at its screen
	At      time.Time `json:"at" yaml:"at"`                     // when that was so
}

// SignIn is who may sign in, from where, and what must be shown besides a
// secret: ordered rules, of which the first that matches decides.
type SignIn struct {
	Accounts map[string][]string `json:"accounts,omitempty" yaml:"accounts"` // each with the groups it is in
	Admins   string              `json:"admins,omitempty" yaml:"admins"`     // the group of administrators
	// the group of accounts that programs use
	Services  string       `json:"services,omitempty" yaml:"services"`
	Rules     []SignInRule `json:"rules" yaml:"rules"`
	Otherwise string       `json:"otherwise,omitempty" yaml:"otherwise"` // "allow", if not said otherwise
}

// SignInRule is one of the rules. What it does not name, it does not ask.
type SignInRule struct {
	Name      string   `json:"name" yaml:"name"`
	Do        string   `json:"do" yaml:"do"`                         // "allow", "refuse" or "require"
	Require   string   `json:"require,omitempty" yaml:"require"`     // "second-factor" or "device"
	Who       []string `json:"who,omitempty" yaml:"who"`             // accounts and groups
	Except    []string `json:"except,omitempty" yaml:"except"`       // accounts and groups that it is not for
	From      []string `json:"from,omitempty" yaml:"from"`           // addresses, nets or groups of them
	NotFrom   []string `json:"not_from,omitempty" yaml:"not-from"`   // the same, that it is not for
	Endpoints []string `json:"endpoints,omitempty" yaml:"endpoints"` // "ledger.varzea.example:5432", or a host alone
	Hours     string   `json:"hours,omitempty" yaml:"hours"`         // "07:00-19:00", UTC
	Days      string   `json:"days,omitempty" yaml:"days"`           // "mon-fri"
	Off       bool     `json:"off,omitempty" yaml:"off"`             // not in force
}

// SignInHours reads hours of a day, in minutes since midnight.
func SignInHours(text string) (from, to int, err error) {
	a, b, ok := strings.Cut(text, "-")
	one, err1 := time.Parse("15:04", strings.TrimSpace(a))
	two, err2 := time.Parse("15:04", strings.TrimSpace(b))
	if !ok || err1 != nil || err2 != nil {
		return 0, 0, errors.New("not hours of a day")
	}
	return one.Hour()*60 + one.Minute(), two.Hour()*60 + two.Minute(), nil
}

// weekdays are the days as sheets write them, in time's own order.
var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// SignInDays reads days of a week: "mon-fri", or "sat,sun".
func SignInDays(text string) (map[time.Weekday]bool, error) {
	days := map[time.Weekday]bool{}
	for part := range strings.SplitSeq(strings.ToLower(text), ",") {
		a, b, ranged := strings.Cut(strings.TrimSpace(part), "-")
		if !ranged {
			b = a
		}
		from, to := slices.Index(weekdays, a), slices.Index(weekdays, b)
		if from < 0 || to < 0 {
			return nil, errors.New("not days of a week")
		}
		for d := from; ; d = (d + 1) % 7 {
			days[time.Weekday(d)] = true
			if d == to {
				break
			}
		}
	}
	return days, nil
}

// Layer is one set of rules in front of some addresses.
type Layer struct {
	Name string `json:"name" yaml:"name"`
	// "stateful": replies follow; "stateless": each direction by itself
	Kind   string   `json:"kind" yaml:"kind"`
	Guards []string `json:"guards" yaml:"guards"` // addresses, nets or groups
	// "first": the first match decides; "any": an allow suffices, a deny wins
	Order     string      `json:"order,omitempty" yaml:"order"`
	In        []SheetRule `json:"in,omitempty" yaml:"in"`               // to what it guards
	Out       []SheetRule `json:"out,omitempty" yaml:"out"`             // from what it guards
	Otherwise string      `json:"otherwise,omitempty" yaml:"otherwise"` // "deny", if not said otherwise
	Off       bool        `json:"off,omitempty" yaml:"off"`             // not in force
}

// SheetRule is one rule: it allows or denies what it names.
type SheetRule struct {
	Name      string   `json:"name,omitempty" yaml:"name"`
	Do        string   `json:"do" yaml:"do"`                         // "allow" or "deny"
	From      []string `json:"from,omitempty" yaml:"from"`           // addresses, nets or groups; none: any
	To        []string `json:"to,omitempty" yaml:"to"`               //
	NotFrom   []string `json:"not_from,omitempty" yaml:"not-from"`   // the same, that it is not for
	NotTo     []string `json:"not_to,omitempty" yaml:"not-to"`       //
	Transport string   `json:"transport,omitempty" yaml:"transport"` // "tcp", "udp", "icmp"; none: any
	// destination ports: "443", "1024-65535"; none: any
	Ports []string `json:"ports,omitempty" yaml:"ports"`
}

// SheetRoutes is a route table for some addresses.
type SheetRoutes struct {
	Name  string       `json:"name,omitempty" yaml:"name"`
	For   []string     `json:"for" yaml:"for"` // whose packets it sends on
	Table []SheetRoute `json:"table" yaml:"table"`
}

// SheetRoute is one entry of it.
type SheetRoute struct {
	To  string `json:"to" yaml:"to"`
	Via string `json:"via" yaml:"via"` // "none": packets are dropped
}

// Scopes is the ranges of client addresses that an application serves.
type Scopes struct {
	Groups []ScopeGroup `json:"groups" yaml:"groups"`
	Ranges []ScopeRange `json:"ranges" yaml:"ranges"`
}

// ScopeGroup is a group of ranges and what it serves.
type ScopeGroup struct {
	Name   string   `json:"name" yaml:"name"`
	Off    bool     `json:"off,omitempty" yaml:"off"`
	Serves []string `json:"serves" yaml:"serves"` // endpoints: "10.20.0.14:443", "tidebook.varzea.example"
}

// ScopeRange is one range of client addresses.
type ScopeRange struct {
	Range string `json:"range" yaml:"range"`
	Group string `json:"group" yaml:"group"`
}

// Net reads an address or a net, as sheets write them.
func Net(text string) (netip.Prefix, error) {
	if addr, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(addr, addr.BitLen()), nil
	}
	p, err := netip.ParsePrefix(text)
	return p.Masked(), err
}

// AllAddresses is the word for every address.
const AllAddresses = "all"

// Nets reads an address, a net, a range of addresses ("10.20.7.10-10.20.7.40"),
// or "all", as the nets that it is made of.
func Nets(text string) ([]netip.Prefix, error) {
	if text == AllAddresses {
		return []netip.Prefix{netip.PrefixFrom(netip.IPv4Unspecified(), 0),
			netip.PrefixFrom(netip.IPv6Unspecified(), 0)}, nil
	}
	from, to, ranged := strings.Cut(text, "-")
	if !ranged {
		p, err := Net(text)
		return []netip.Prefix{p}, err
	}
	low, err := netip.ParseAddr(strings.TrimSpace(from))
	if err != nil {
		return nil, err
	}
	high, err := netip.ParseAddr(strings.TrimSpace(to))
	if err != nil {
		return nil, err
	}
	if low.Is4() != high.Is4() || high.Less(low) {
		return nil, errors.New("not a range of addresses")
	}
	var list []netip.Prefix
	for {
		// The largest net that begins at low and does not go beyond high.
		bits := low.BitLen()
		for bits > 0 {
			wider := netip.PrefixFrom(low, bits-1)
			if wider.Masked().Addr() != low || high.Less(last(wider)) {
				break
			}
			bits--
		}
		p := netip.PrefixFrom(low, bits)
		list = append(list, p)
		if low = last(p).Next(); !low.IsValid() || high.Less(low) {
			return list, nil
		}
	}
}

// last is the last address of a net.
func last(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	addr, _ := netip.AddrFromSlice(b)
	return addr
}

// Ports reads a port or a range of ports: "443", "1024-65535".
func Ports(text string) (low, high uint16, err error) {
	from, to, ranged := strings.Cut(text, "-")
	if !ranged {
		to = from
	}
	a, err := strconv.ParseUint(strings.TrimSpace(from), 10, 16)
	b, err2 := strconv.ParseUint(strings.TrimSpace(to), 10, 16)
	if err != nil || err2 != nil || a > b {
		return 0, 0, errors.New("not a range of ports")
	}
	return uint16(a), uint16(b), nil
}
