// Package sheet reads sheets ("uakari.sheet/1"): YAML files with security
// rules that no host can be asked for.
package sheet

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/yamlfile"
)

// Format names the file format.
const Format = "uakari.sheet/1"

// MostBytes bounds a sheet file.
const MostBytes = 4 << 20

// Parse reads a sheet from text; path names it in errors, with line and column.
func Parse(path string, text []byte) (*fact.Sheet, error) {
	var s fact.Sheet
	if err := yamlfile.Decode(path, text, &s); err != nil {
		return nil, err
	}
	places, err := yamlfile.PlacesOf(path, text)
	if err != nil {
		return nil, err
	}
	c := &checker{sheet: &s, places: places}
	c.check()
	return &s, c.err
}

// checker finds values that make no sense, with their place; the first is
// kept.
type checker struct {
	sheet  *fact.Sheet
	places yamlfile.Places
	err    error
}

// wrong keeps an error at a place of the file ("$.layers[0].kind").
func (c *checker) wrong(at, format string, args ...any) {
	if c.err != nil {
		return
	}
	c.err = c.places.Wrong(at, format, args...)
}

func (c *checker) check() {
	s := c.sheet
	if s.Format != Format {
		c.wrong("$.format", "format %q; expected %q", s.Format, Format)
	}
	if s.Name == "" {
		c.wrong("$.name", "the sheet has no name; expected a line like: name: office")
	}
	for _, name := range slices.Sorted(maps.Keys(s.Groups)) {
		if _, err := fact.Nets(name); err == nil {
			c.wrong("$.groups."+name, "%q: a group may not be called as an address is", name)
		}
		c.addresses("$.groups."+name, s.Groups[name], false)
		if c.circular(name, nil) {
			c.wrong("$.groups."+name, "%q: the group names itself, by way of others", name)
		}
	}
	for i, f := range s.Forwards {
		c.forward(fmt.Sprintf("$.forwards[%d]", i), f)
	}
	for i, m := range s.Machines {
		c.machine(fmt.Sprintf("$.machines[%d]", i), m)
	}
	for i := range s.Layers {
		c.layer(fmt.Sprintf("$.layers[%d]", i), &s.Layers[i])
	}
	for i, r := range s.Routes {
		at := fmt.Sprintf("$.routes[%d]", i)
		c.addresses(at+".for", r.For, true)
		for j, entry := range r.Table {
			if _, err := fact.Net(entry.To); err != nil {
				c.wrong(fmt.Sprintf("%s.table[%d].to", at, j), "%q: expected a net such as 0.0.0.0/0", entry.To)
			}
			if entry.Via == "" {
				c.wrong(fmt.Sprintf("%s.table[%d]", at, j), "no via; expected where it leads, or none")
			}
		}
	}
	if s.Scopes != nil {
		c.scopes(s.Scopes)
	}
	if s.SignIn != nil {
		c.signIn(s.SignIn)
	}
}

// circular reports whether a group names itself, by way of others.
func (c *checker) circular(name string, within []string) bool {
	if slices.Contains(within, name) {
		return true
	}
	return slices.ContainsFunc(c.sheet.Groups[name], func(each string) bool {
		return c.sheet.Groups[each] != nil && c.circular(each, append(slices.Clone(within), name))
	})
}

func (c *checker) forward(at string, f fact.Forward) {
	if f.Name == "" {
		c.wrong(at, "the forward has no name")
	}
	if _, err := netip.ParseAddrPort(f.From); err != nil {
		c.wrong(at+".from", "%q: expected an address and a port such as 10.96.0.10:443", f.From)
	}
	for i, to := range f.To {
		if _, err := netip.ParseAddrPort(to); err != nil {
			c.wrong(fmt.Sprintf("%s.to[%d]", at, i), "%q: expected an address and a port such as 10.244.1.5:8443", to)
		}
	}
}

func (c *checker) machine(at string, m fact.Machine) {
	if _, err := netip.ParseAddr(m.Address); err != nil {
		c.wrong(at+".address", "%q: expected the machine's address", m.Address)
	}
	c.oneOf(at+".power", m.Power, "on", "off")
	if m.Checks != "" {
		c.oneOf(at+".checks", m.Checks, "passed", "failed")
	}
	if m.At.IsZero() {
		c.wrong(at, "at what time was that so? Expected a line like at: 2026-11-23T10:41:07Z")
	}
}

// whoever wants names to be those of accounts or of their groups. A sheet that
// lists no accounts may name any.
func (c *checker) whoever(at string, list []string) {
	s := c.sheet.SignIn
	for i, name := range list {
		_, account := s.Accounts[name]
		group := name == fact.AllAddresses || name == s.Admins || name == s.Services
		for _, groups := range s.Accounts {
			group = group || slices.Contains(groups, name)
		}
		if len(s.Accounts) > 0 && !account && !group {
			c.wrong(
				fmt.Sprintf("%s[%d]", at, i),
				"%q: no account and no group of one is called so; expected one of them, or all",
				name,
			)
		}
	}
}

func (c *checker) signIn(s *fact.SignIn) {
	if s.Otherwise == "" {
		s.Otherwise = "allow"
	}
	c.oneOf("$.sign-in.otherwise", s.Otherwise, "allow", "refuse")
	for i, r := range s.Rules {
		at := fmt.Sprintf("$.sign-in.rules[%d]", i)
		c.oneOf(at+".do", r.Do, "allow", "refuse", "require")
		if r.Name == "" {
			c.wrong(at, "the rule has no name")
		}
		if r.Do == "require" {
			c.oneOf(at+".require", r.Require, "second-factor", "device")
		}
		c.whoever(at+".who", r.Who)
		c.whoever(at+".except", r.Except)
		c.addresses(at+".from", r.From, false)
		c.addresses(at+".not-from", r.NotFrom, false)
		if _, _, err := fact.SignInHours(r.Hours); r.Hours != "" && err != nil {
			c.wrong(at+".hours", "%q: expected hours such as 07:00-19:00", r.Hours)
		}
		if _, err := fact.SignInDays(r.Days); r.Days != "" && err != nil {
			c.wrong(at+".days", "%q: expected days such as mon-fri", r.Days)
		}
	}
}

func (c *checker) layer(at string, l *fact.Layer) {
	if l.Name == "" {
		c.wrong(at, "the layer has no name")
	}
	c.oneOf(at+".kind", l.Kind, "stateful", "stateless")
	if l.Order == "" {
		l.Order = "first"
	}
	if l.Otherwise == "" {
		l.Otherwise = "deny"
	}
	c.oneOf(at+".order", l.Order, "first", "any")
	c.oneOf(at+".otherwise", l.Otherwise, "deny", "allow")
	c.addresses(at+".guards", l.Guards, true)
	for _, side := range []struct {
		name  string
		rules []fact.SheetRule
	}{{"in", l.In}, {"out", l.Out}} {
		for i, r := range side.rules {
			here := fmt.Sprintf("%s.%s[%d]", at, side.name, i)
			c.oneOf(here+".do", r.Do, "allow", "deny")
			if r.Transport != "" {
				c.oneOf(here+".transport", r.Transport, "tcp", "udp", "icmp")
			}
			c.addresses(here+".from", r.From, false)
			c.addresses(here+".to", r.To, false)
			c.addresses(here+".not-from", r.NotFrom, false)
			c.addresses(here+".not-to", r.NotTo, false)
			for j, text := range r.Ports {
				if _, _, err := fact.Ports(text); err != nil {
					c.wrong(
						fmt.Sprintf("%s.ports[%d]", here, j),
						"%q: expected a port or a range such as 1024-65535",
						text,
					)
				}
			}
		}
	}
}

func (c *checker) oneOf(at, value string, list ...string) {
	if !slices.Contains(list, value) {
		c.wrong(at, "%q: expected %s", value, strings.Join(list, " or "))
	}
}

func (c *checker) addresses(at string, list []string, needed bool) {
	if needed && len(list) == 0 {
		c.wrong(at, "expected addresses, nets or groups")
	}
	for i, text := range list {
		if _, group := c.sheet.Groups[text]; group {
			continue
		}
		if _, err := fact.Nets(text); err != nil {
			c.wrong(
				fmt.Sprintf("%s[%d]", at, i),
				"%q: expected an address, a net, a range such as 10.20.7.10-10.20.7.40, or one of the groups",
				text,
			)
		}
	}
}

func (c *checker) scopes(s *fact.Scopes) {
	for i, r := range s.Ranges {
		at := fmt.Sprintf("$.scopes.ranges[%d]", i)
		c.addresses(at+".range", []string{r.Range}, true)
		if !slices.ContainsFunc(s.Groups, func(g fact.ScopeGroup) bool { return g.Name == r.Group }) {
			c.wrong(at+".group", "%q: there is no such group of scopes", r.Group)
		}
	}
}
