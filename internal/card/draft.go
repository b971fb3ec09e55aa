package card

import (
	"crypto/x509"
	"fmt"
	"path"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
)

// Drafted is a first card, and what of it was not seen.
type Drafted struct {
	Card  fact.Card
	Notes []string

	looked bool     // at who listens
	open   []uint16 // whoever holds them
}

// Draft is a card of what was seen of an application: nothing in it is guessed,
// but for the name. own is the program that alone serves the endpoint's scheme,
// if there is one.
func Draft(e fact.Endpoint, facts []fact.Fact, server, own string) Drafted {
	d := Drafted{Card: fact.Card{Format: Format, Ports: []uint16{e.Port}, Program: own}}
	c := &d.Card
	c.Name, _, _ = strings.Cut(e.Host, ".")
	if _, ok := endpoint.Literal(e.Host); ok {
		c.Name = e.Scheme
	}
	c.Endpoint = fmt.Sprintf("%s://%s%s", e.Scheme, endpoint.HostPort(e.Host, e.Port), e.Path)
	var listeners []fact.Listener
	var programs []fact.Program
	for _, f := range facts {
		there := server == "" || f.Vantage == server
		switch {
		case f.Handshake != nil && f.Order.Target.Port == e.Port && len(f.Handshake.Chain) > 0:
			d.aliases(e.Host, namesIn(f.Handshake.Chain[0]))
		case !there || f.Failed != nil:
		case f.Service != nil:
			programs = append(programs, f.Service.Programs...)
		case f.Listeners != nil:
			if !d.looked || f.Order.Target.Port == 0 { // of a port alone, the owners of others are not told
				listeners, d.looked = f.Listeners.All, true
			}
		case f.CertFiles != nil:
			d.certificate(f.CertFiles.Pairs, e)
		case f.Upstreams != nil:
			d.hops(f.Upstreams.List)
		}
	}
	d.program(e, programs, listeners)
	if !d.looked {
		d.Notes = append(d.Notes, "nobody looked at the server: give it by --at USER@HOST or --record FILE")
	}
	return d
}

// aliases takes over other names of the endpoint's host.
func (d *Drafted) aliases(host string, names []string) {
	for _, name := range names {
		if !strings.EqualFold(name, host) && !strings.Contains(name, "*") && !slices.Contains(d.Card.Aliases, name) {
			d.Card.Aliases = append(d.Card.Aliases, name)
		}
	}
}

// namesIn is the names that a certificate is for.
func namesIn(der []byte) []string {
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return nil // one that cannot be read names nobody
	}
	return c.DNSNames
}

// certificate takes over the files of the certificate that is served on the
// endpoint's port, as the server's settings have it.
func (d *Drafted) certificate(pairs []fact.CertPair, e fact.Endpoint) {
	for _, p := range pairs {
		named := len(p.Names) == 0 ||
			slices.ContainsFunc(p.Names, func(n string) bool { return strings.EqualFold(n, e.Host) })
		if d.Card.Certificate == "" && named && (len(p.Ports) == 0 || slices.Contains(p.Ports, e.Port)) {
			d.Card.Certificate = p.Cert
			if p.Key != p.Cert {
				d.Card.CertificateKey = p.Key
			}
			d.aliases(e.Host, p.Names)
		}
	}
}

func (d *Drafted) hops(list []fact.Upstream) {
	for _, up := range list {
		hop := up.Scheme + "://" + endpoint.HostPort(up.Host, up.Port) + "/"
		if up.Socket == "" && up.Host != "" && !slices.Contains(d.Card.Hops, hop) {
			d.Card.Hops = append(d.Card.Hops, hop)
		}
	}
}

// program takes over who holds the endpoint's port, and all that belongs to it.
func (d *Drafted) program(e fact.Endpoint, programs []fact.Program, listeners []fact.Listener) {
	c := &d.Card
	var holder fact.Listener
	for _, l := range listeners {
		if l.Port == e.Port && l.Transport != "udp" == (e.Transport != "udp") && holder.Port == 0 {
			holder = l
		}
	}
	slices.SortStableFunc(programs, func(a, b fact.Program) int { return len(b.Named) - len(a.Named) })
	at := slices.IndexFunc(programs, func(p fact.Program) bool {
		return holder.Port != 0 &&
			(p.Name == holder.Program || path.Base(p.Path) == holder.Program || holder.Unit != "" &&
				unitIn(p, holder.Unit))
	})
	if at < 0 {
		at = slices.IndexFunc(programs, func(p fact.Program) bool { return p.Path != "" && holder.Port == 0 })
	}
	if holder.Unit != "" {
		c.Unit = holder.Unit
	}
	if holder.Program != "" {
		c.Program = holder.Program
	}
	if at >= 0 {
		p := programs[at]
		c.Program = p.Path
		if p.Path == "" {
			c.Program = p.Name
		}
		if c.Unit == "" && len(p.Units) > 0 {
			c.Unit = p.Units[0].Name
		}
		if len(p.Logs) > 0 {
			c.Log = p.Logs[0].Path
		}
		for _, n := range p.Named {
			rule := fact.SettingRule{Name: "the " + n.Is + " in " + path.Base(n.At.File), Is: n.Is, Server: &n.At}
			if n.Is == "certificate" || n.Is == "backend" {
				rule.Is, rule.Value = "value", n.Value
			}
			c.Settings = append(c.Settings, rule)
		}
	}
	for _, l := range listeners {
		d.open = append(d.open, l.Port)
		ours := l.Unit != "" && l.Unit == c.Unit || l.Unit == "" && holder.Program != "" && l.Program == holder.Program
		if ours && !l.Addr.IsLoopback() && l.Transport == "" && e.Transport != "udp" &&
			!slices.Contains(c.Ports, l.Port) {
			c.Ports = append(c.Ports, l.Port)
		}
	}
	slices.Sort(c.Ports[1:])
}

func unitIn(p fact.Program, unit string) bool {
	return slices.ContainsFunc(p.Units, func(u fact.Unit) bool { return u.Name == unit })
}

// Compare is where a card and what was seen of its application do not agree.
// What was not seen, and what a card leaves out, is no difference, but for ports
// that the same unit holds too.
func Compare(c fact.Card, seen Drafted, facts []fact.Fact) []string {
	var list []string
	differs := func(what, says, has string) {
		if says != "" && has != "" && says != has {
			list = append(list, fmt.Sprintf("%s: the card says %s, and the host has %s", what, says, has))
		}
	}
	if path.Base(c.Program) != path.Base(seen.Card.Program) || path.IsAbs(c.Program) && path.IsAbs(seen.Card.Program) {
		differs("program", c.Program, seen.Card.Program)
	}
	differs("unit", c.Unit, seen.Card.Unit)
	differs("certificate", c.Certificate, seen.Card.Certificate)
	differs("certificate-key", c.CertificateKey, seen.Card.CertificateKey)
	if seen.looked {
		for _, port := range c.Ports {
			if !slices.Contains(seen.Card.Ports, port) && !slices.Contains(seen.open, port) {
				list = append(list, fmt.Sprintf("ports: the card says %d, and nothing listens there", port))
			}
		}
		for _, port := range seen.Card.Ports {
			if len(c.Ports) > 0 && !slices.Contains(c.Ports, port) {
				list = append(list, fmt.Sprintf("ports: it listens on %d too, which the card leaves out", port))
			}
		}
	}
	for _, hop := range seen.Card.Hops {
		if len(c.Hops) > 0 && !slices.ContainsFunc(c.Hops, func(h string) bool { return sameHop(h, hop) }) {
			list = append(list, fmt.Sprintf("hops: its settings lead to %s too, which the card leaves out", hop))
		}
	}
	for _, f := range facts {
		if f.Settings != nil {
			for _, s := range f.Settings.List {
				if why := s.Missing + s.Unread; why != "" {
					list = append(list, fmt.Sprintf("settings: %s, on the %s: %s", s.At.Named(), f.Settings.Side, why))
				}
			}
		}
		if f.Signs != nil {
			for _, s := range f.Signs.List {
				if why := s.Wrong + s.Unread; why != "" {
					list = append(list, fmt.Sprintf("signs, on the %s: %s", f.Signs.Side, why))
				}
			}
		}
	}
	return list
}

// sameHop reports whether two endpoints are one host and port.
func sameHop(a, b string) bool {
	x, err := endpoint.Parse(a)
	y, err2 := endpoint.Parse(b)
	return err == nil && err2 == nil && strings.EqualFold(x.Host, y.Host) && x.Port == y.Port
}
