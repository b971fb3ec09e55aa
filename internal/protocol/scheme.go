package protocol

import (
	"strings"

	"uakari/internal/fact"
)

// Scheme is what an endpoint of that name means when nothing else is said.
type Scheme struct {
	Name     string
	Aliases  []string
	Port     uint16 // 0: must be given
	Also     []uint16
	Security fact.Security
	UDP      bool // spoken in datagrams; else over TCP
	First    First
	Open     bool   // nobody signs in with an account of their own
	Wire     string // the protocol spoken; "" : none beyond the connection
	// Verify says whether ordinary clients of this scheme check the
	// server's certificate. Mail relays and database clients encrypt where
	// they can and look no further, unless told to (RFC 7435).
	Verify bool
	// Nameless is what an account is called that signs in by a secret alone.
	Nameless string
	// Record is what clients put before a domain to find its servers by
	// service records (RFC 2782; RFC 6186 for mail, RFC 4120 for Kerberos).
	Record string
}

// Schemes is every scheme, in the order in which help lists them.
var Schemes = schemes()

func schemes() []Scheme {
	var list []Scheme
	for _, p := range All {
		for _, s := range p.Schemes {
			switch {
			case p.Over != "":
				s.Wire = p.Over
			case !p.Mute:
				s.Wire = p.Name
			}
			list = append(list, s)
		}
	}
	return list
}

// Spoken is the protocol of a scheme; a bare connection where it is not known.
func Spoken(scheme string) *Protocol {
	s, _ := Lookup(scheme)
	return Of(s.Wire)
}

// Lookup finds a scheme by its name or another name for it.
func Lookup(name string) (Scheme, bool) {
	for _, s := range Schemes {
		if s.Name == name {
			return s, true
		}
		for _, alias := range s.Aliases {
			if alias == name {
				return s, true
			}
		}
	}
	return Scheme{}, false
}

// Transport is what carries it: "tcp" or "udp".
func (s Scheme) Transport() string {
	if s.UDP {
		return "udp"
	}
	return "tcp"
}

// RecordOf is the service record by which clients of an endpoint find the
// servers of a domain; "" where they go by names alone, or nobody said the
// scheme.
func RecordOf(e fact.Endpoint, domain string) string {
	s, ok := Lookup(e.Scheme)
	if !ok || s.Record == "" || e.Assumed || domain == "" {
		return ""
	}
	return s.Record + "." + strings.TrimSuffix(domain, ".")
}

// ByPort is the scheme whose own port this is; tcp, where there is none.
func ByPort(port uint16) Scheme {
	for _, s := range Schemes {
		if s.Port == port {
			return s
		}
	}
	tcp, _ := Lookup("tcp")
	return tcp
}

// Usual reports whether clients of the scheme customarily use this port.
func (s Scheme) Usual(port uint16) bool {
	if s.Port == port && port != 0 {
		return true
	}
	for _, also := range s.Also {
		if also == port {
			return true
		}
	}
	return false
}

// UsualOn is the names of the schemes that are usual on a port.
func UsualOn(port uint16) []string {
	var list []string
	for _, s := range schemes() {
		if s.Usual(port) {
			list = append(list, s.Name)
		}
	}
	return list
}
