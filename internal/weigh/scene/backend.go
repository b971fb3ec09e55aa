package scene

import (
	"cmp"
	"crypto/x509"
	"fmt"
	"net/netip"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/protocol"
	"uakari/internal/weigh/gate"
)

// Backend says what is wrong with a backend, seen from the server; "" if nothing
// is, or it was not seen yet.
func (v *Scene) Backend(w *Wants, t *Try, up fact.Upstream) (string, []string) {
	place := up.Path
	if up.Line > 0 {
		place += fmt.Sprintf(", line %d", up.Line)
	}
	if up.Socket != "" {
		if up.Open == nil || *up.Open {
			return "", nil
		}
		return fmt.Sprintf("%s (%s): nobody listens on that socket", up.Socket, place), nil
	}
	addr, ok := v.addressAt(w, t.Server, up.Host)
	if !ok {
		return "", nil
	}
	scheme, _ := protocol.Lookup(up.Scheme)
	target := up.At(addr, scheme.Security)
	w.Add(Want{Look: fact.LookSession, At: fact.Server, On: t.Server, Target: target, Gate: gate.Answer})
	c, seen := v.ClimbAt(t.Server, target)
	if !seen {
		return "", nil
	}
	s := c.Symptom(nil)
	if text := unfit(v, c, up); text != "" && (s.Good() || s == gate.NotTried) {
		return fmt.Sprintf("%s (%s): %s", endpoint.HostPort(up.Host, up.Port), place, text), c.IDs()
	}
	if s.Good() || s == gate.NotTried {
		return "", nil
	}
	return fmt.Sprintf("%s (%s): %s", endpoint.HostPort(up.Host, up.Port), place, s), c.IDs()
}

// unfit is why a gateway that checks the certificates of its backends does not take the one
// that was shown; "" if nothing says so. Whom it trusts was not read.
func unfit(v *Scene, c Climb, up fact.Upstream) string {
	if !up.Verified || c.Handshake == nil || len(c.Handshake.Handshake.Chain) == 0 {
		return ""
	}
	leaf, err := x509.ParseCertificate(c.Handshake.Handshake.Chain[0])
	if err != nil {
		return ""
	}
	name := cmp.Or(up.Name, up.Host)
	switch {
	case !up.AnyName && leaf.VerifyHostname(name) != nil:
		covers := leaf.DNSNames
		for _, addr := range leaf.IPAddresses {
			covers = append(covers, addr.String())
		}
		return fmt.Sprintf("its certificate is for %s, and the gateway checks it for %s",
			cmp.Or(foreign.Clean(strings.Join(covers, ", ")), "no name"), name)
	case v.Ask.Began.After(leaf.NotAfter):
		return "its certificate expired on " + leaf.NotAfter.UTC().Format("2006-01-02") + ", and the gateway checks it"
	}
	return ""
}

// asked is the server's own try of a backend, as far as it was seen.
func (v *Scene) asked(t *Try, up fact.Upstream) (Climb, bool) {
	addr, ok := v.addressAt(&Wants{}, t.Server, up.Host)
	if !ok {
		return Climb{}, false
	}
	scheme, _ := protocol.Lookup(up.Scheme)
	return v.ClimbAt(t.Server, up.At(addr, scheme.Security))
}

// Refuses reports whether a backend, asked from the server, answers with a status.
func (v *Scene) Refuses(t *Try, up fact.Upstream, status int) bool {
	c, seen := v.asked(t, up)
	return seen && c.Reply != nil && c.Reply.Reply.Status == status
}

// Straight is the good answer that the client itself got of a backend; nil if none was seen.
func (v *Scene) Straight(t *Try, up fact.Upstream) *fact.Fact {
	addr, ok := v.addressAt(&Wants{}, t.Server, up.Host)
	if !ok {
		return nil
	}
	for _, f := range v.Facts(v.Client, fact.LookSession) {
		at := f.Order.Target
		if f.Reply != nil && f.Reply.Status > 0 && f.Reply.Status < 400 && at.Addr == addr && at.Port == up.Port {
			return f
		}
	}
	return nil
}

// Slow reports whether a backend takes connections and was only not waited for long
// enough to have answered: that is no failure.
func (v *Scene) Slow(t *Try, up fact.Upstream) bool {
	c, seen := v.asked(t, up)
	s := c.Symptom(nil)
	return seen && (s == gate.ClientFirstSilent || s == gate.ServerFirstSilent)
}

// addressAt is what a backend's name gives on the gateway.
func (v *Scene) addressAt(w *Wants, vantage, name string) (netip.Addr, bool) {
	if addr, ok := endpoint.Literal(name); ok {
		return addr, true
	}
	if name == "localhost" {
		return netip.AddrFrom4([4]byte{127, 0, 0, 1}), true
	}
	w.Add(Want{Look: fact.LookNames, At: fact.Server, On: vantage, Target: fact.Target{Name: name}, Gate: gate.Answer})
	for _, f := range v.Facts(vantage, fact.LookNames) {
		if f.Order.Target.Name != name {
			continue
		}
		if f.HostsFile != nil && len(f.HostsFile.Addrs) > 0 {
			return f.HostsFile.Addrs[0], true
		}
		if f.Answer != nil && len(f.Answer.Addrs) > 0 {
			return f.Answer.Addrs[0], true
		}
	}
	return netip.Addr{}, false
}
