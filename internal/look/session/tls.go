package session

import (
	"context"
	"crypto/tls"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/look/trust"
	"uakari/internal/protocol"
	"uakari/internal/wire"
)

// Bounds on a chain that is kept.
const (
	mostCerts      = 100
	mostChainBytes = 1 << 20
	mostStaple     = 64 << 10
)

// handshake makes a TLS handshake that checks nothing and keeps everything.
// It reports whether to go on.
func (c *climber) handshake(ctx context.Context) bool {
	t := c.order.Target
	config := &tls.Config{
		InsecureSkipVerify: true, // weighed from the chain
		ServerName:         indicated(t.Name),
		MinVersion:         tls.VersionTLS10,
		CipherSuites:       everySuite(),
	}
	if c.conn.Old {
		config.MaxVersion = tls.VersionTLS12
	}
	if t.Security == fact.TLS {
		config.NextProtos = protocol.Of(c.scheme.Wire).Speaks
	}
	var wanted *tls.CertificateRequestInfo
	presented := c.presented()
	config.GetClientCertificate = func(info *tls.CertificateRequestInfo) (*tls.Certificate, error) {
		wanted = info
		return presented, nil // whatever authorities it names: that is to be seen
	}
	c.step(ctx)
	defer c.setDeadline(ctx)
	began := time.Now()
	heard := &hearing{Conn: c.conn}
	conn := tls.Client(heard, config)
	ended := c.whenLate(func() {
		h := fact.Handshake{
			Ending:     fact.Stalled,
			ServerName: config.ServerName,
			Begun:      heard.any.Load(),
			TookMS:     wire.MS(late),
		}
		f := c.env.Seen(c.order, "TLS handshake with "+c.address(), "no answer yet after "+short(h.TookMS))
		f.Handshake = &h
		c.emit(f)
	})
	err := conn.HandshakeContext(ctx)
	ended()
	h := fact.Handshake{ServerName: config.ServerName, Begun: heard.any.Load(), TookMS: wire.MS(time.Since(began))}
	state := conn.ConnectionState()
	h.Chain = keepChain(state)
	if len(state.OCSPResponse) <= mostStaple {
		h.Staple = state.OCSPResponse
	}
	if wanted != nil {
		h.Wanted, h.Authorities, h.Sent = true, authorities(wanted.AcceptableCAs), presented.Certificate
	}
	if err == nil {
		h.Ending, h.Version, h.Cipher = fact.Done, tls.VersionName(
			state.Version,
		), tls.CipherSuiteName(
			state.CipherSuite,
		)
		h.Suite, h.Speaks = state.CipherSuite, foreign.Clean(state.NegotiatedProtocol)
	} else {
		describe(&h, err)
	}
	f := c.env.Seen(
		c.order,
		fmt.Sprintf("TLS handshake with %s, name %s", c.address(), nameOrNone(h.ServerName)),
		sawHandshake(h),
	)
	f.Handshake = &h
	c.emit(f)
	if len(h.Chain) > 0 {
		c.trust(h.Chain)
	}
	if err != nil {
		return false
	}
	c.secured = &state
	c.conn = c.conn.Over(&refusable{Conn: conn, refused: func(alert error) {
		late, again := h, f
		late.Ending, late.Alert, late.Error = fact.Closed, alertNumbers()[alert.Error()], foreign.Clean(alert.Error())
		again.Handshake, again.Saw = &late, sawHandshake(late)+", after the handshake"
		c.emit(again)
	}})
	return true
}

// presented is the certificate that the client presents if it is asked for
// one: an empty one, where none was given or it cannot be read.
func (c *climber) presented() *tls.Certificate {
	place := c.env.Presented
	if place == "" && c.env.Card != nil {
		place = c.env.Card.ClientCertificate
	}
	if place == "" {
		return new(tls.Certificate)
	}
	cert, err := trust.ReadPresented(place, "")
	if err != nil {
		c.emit(
			c.env.Failed(
				c.order,
				"client certificate "+place,
				"could not read the client's certificate",
				err,
				"the user that the client program runs as",
			),
		)
		return new(tls.Certificate)
	}
	return &cert
}

// hearing is a connection that knows whether anything came over it.
type hearing struct {
	net.Conn
	any atomic.Bool
}

func (h *hearing) Read(p []byte) (int, error) {
	n, err := h.Conn.Read(p)
	if n > 0 {
		h.any.Store(true)
	}
	return n, err
}

// refusable is a session whose other end may still refuse the handshake: with
// TLS 1.3 the refusal of a client certificate comes when something is read.
type refusable struct {
	net.Conn
	refused func(alert error)
}

func (r *refusable) Read(p []byte) (int, error) {
	n, err := r.Conn.Read(p)
	var remote *net.OpError
	if r.refused != nil && errors.As(err, &remote) && remote.Op == "remote error" {
		r.refused(remote.Err)
		r.refused = nil
	}
	return n, err
}

// authorities is the names of authorities, as people read them.
func authorities(der [][]byte) []string {
	const most = 20
	var names []string
	for _, raw := range der[:min(len(der), most)] {
		var sequence pkix.RDNSequence
		if rest, err := asn1.Unmarshal(raw, &sequence); err != nil || len(rest) > 0 {
			continue
		}
		var name pkix.Name
		name.FillFromRDNSequence(&sequence)
		names = append(names, foreign.Clean(name.String()))
	}
	return names
}

// indicated is the name indication: an address is never indicated (RFC 6066
// section 3), nor the dot at the end of a name.
func indicated(name string) string {
	if _, err := netip.ParseAddr(name); err == nil {
		return ""
	}
	return strings.TrimSuffix(name, ".")
}

func nameOrNone(s string) string {
	if s == "" {
		return "not indicated"
	}
	return s
}

// everySuite is every suite the library knows, old ones included: what a
// client should accept is weighed, not assumed.
func everySuite() []uint16 {
	var ids []uint16
	for _, s := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
		ids = append(ids, s.ID)
	}
	return ids
}

func keepChain(state tls.ConnectionState) [][]byte {
	var chain [][]byte
	size := 0
	for _, cert := range state.PeerCertificates {
		if size += len(cert.Raw); len(chain) == mostCerts || size > mostChainBytes {
			break
		}
		chain = append(chain, cert.Raw)
	}
	return chain
}

// alertNumbers finds an alert by the library's words for it, which is all
// that it hands out.
var alertNumbers = sync.OnceValue(func() map[string]int {
	numbers := map[string]int{}
	for n := range 256 {
		numbers[tls.AlertError(n).Error()] = n
	}
	return numbers
})

// describe says how a handshake failed.
func describe(h *fact.Handshake, err error) {
	var remote *net.OpError
	var record tls.RecordHeaderError
	h.Error = foreign.Clean(look.Words(err))
	switch {
	case errors.As(err, &remote) && remote.Op == "remote error":
		h.Ending, h.Alert = fact.Closed, alertNumbers()[remote.Err.Error()]
	case errors.As(err, &record):
		h.Ending, h.Spoke, h.Error = fact.Malformed, wire.Recognise(record.RecordHeader[:]), ""
	default:
		h.Ending = wire.Ending(err)
	}
}

func sawHandshake(h fact.Handshake) string {
	switch {
	case h.Ending == fact.Done:
		return fmt.Sprintf("%s, %d certificates, in %s", h.Version, len(h.Chain), short(h.TookMS))
	case h.Alert != 0:
		return fmt.Sprintf("the server sent alert %d (%s)", h.Alert, h.Error)
	case h.Spoke != "":
		return h.Spoke + " answered instead of TLS"
	case h.Ending == fact.Malformed && h.Error == "":
		return "something answered that is not TLS"
	case h.Error != "":
		return h.Error
	}
	return sawEnding(h.Ending)
}

// trust keeps the roots of this client that could vouch for the chain.
func (c *climber) trust(chain [][]byte) {
	if named := c.order.Target.Trust; named != "" {
		c.trustIn(named, chain, false)
		c.trustIn("", chain, true)
		return
	}
	if c.env.Trust == "" && c.env.Card != nil && c.env.Card.ClientTrust != "" {
		c.trustIn(c.env.Card.ClientTrust, chain, false)
		c.trustIn("", chain, true)
		return
	}
	c.trustIn(c.env.Trust, chain, false)
}

func (c *climber) trustIn(path string, chain [][]byte, beside bool) {
	store, err := trust.Load(path)
	if err != nil && beside {
		return // it would only have been compared
	}
	if unread(c.env, c.order, err, c.emit) {
		return
	}
	t := fact.Trust{Roots: store.For(chain), Revoked: store.Lists(chain), Beside: beside}
	tellTrust(c.env, c.order, store, t, c.emit)
}
