package fact

import (
	"errors"
	"net/netip"
	"strconv"
	"strings"
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
}

// Layer is one set of rules in front of some addresses.
type Layer struct {
	Name      string      `json:"name" yaml:"name"`
	Kind      string      `json:"kind" yaml:"kind"`                     // "stateful": replies follow; "stateless": each direction by itself
	Guards    []string    `json:"guards" yaml:"guards"`                 // addresses, nets or groups
	Order     string      `json:"order,omitempty" yaml:"order"`         // "first": the first match decides; "any": an allow suffices, a deny wins
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
	Transport string   `json:"transport,omitempty" yaml:"transport"` // "tcp", "udp", "icmp"; none: any
	Ports     []string `json:"ports,omitempty" yaml:"ports"`         // destination ports: "443", "1024-65535"; none: any
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
