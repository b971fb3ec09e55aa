package demo

import (
	"errors"
	"io"
	"net"
	"net/netip"
	"strings"

	"github.com/miekg/dns"
)

// serveNames runs the world's resolver.
func serveNames(at netip.AddrPort) (io.Closer, error) {
	packets, err := net.ListenPacket("udp", at.String())
	if err != nil {
		return nil, err
	}
	streams, err := net.Listen("tcp", at.String())
	if err != nil {
		packets.Close()
		return nil, err
	}
	udp := &dns.Server{PacketConn: packets, Handler: dns.HandlerFunc(answer)}
	tcp := &dns.Server{Listener: streams, Handler: dns.HandlerFunc(answer)}
	go udp.ActivateAndServe() // both end with an error when they are closed
	go tcp.ActivateAndServe()
	return closers{packets, streams}, nil
}

type closers []io.Closer

func (c closers) Close() error {
	var all []error
	for _, each := range c {
		all = append(all, each.Close())
	}
	return errors.Join(all...)
}

// answer answers for the world's zone and for nothing else.
func answer(w dns.ResponseWriter, question *dns.Msg) {
	reply := new(dns.Msg)
	reply.SetReply(question)
	reply.Authoritative = true
	for _, q := range question.Question {
		name := strings.ToLower(q.Name)
		host, known := strings.CutSuffix(name, "."+domain+".")
		if to, ok := aliases[host]; ok {
			reply.Answer = append(
				reply.Answer,
				&dns.CNAME{Hdr: header(q.Name, dns.TypeCNAME), Target: to + "." + domain + "."},
			)
			host = to
		}
		if name == domain+"." {
			reply.Answer = append(reply.Answer, ofZone(q.Qtype)...)
			continue
		}
		addr, ok := zone[host]
		if !known || !ok {
			reply.Rcode = dns.RcodeNameError
			continue
		}
		if q.Qtype == dns.TypeA {
			reply.Answer = append(
				reply.Answer,
				&dns.A{Hdr: header(host+"."+domain+".", dns.TypeA), A: net.ParseIP(addr)},
			)
		}
	}
	if err := w.WriteMsg(reply); err != nil {
		w.Close() // the one who asked is gone
	}
}

// ofZone is what the zone says of itself: its server and its serial.
func ofZone(kind uint16) []dns.RR {
	server := "clock." + domain + "."
	switch kind {
	case dns.TypeNS:
		return []dns.RR{&dns.NS{Hdr: header(domain+".", dns.TypeNS), Ns: server}}
	case dns.TypeSOA:
		return []dns.RR{
			&dns.SOA{
				Hdr:     header(domain+".", dns.TypeSOA),
				Ns:      server,
				Mbox:    "post." + domain + ".",
				Serial:  2026112301,
				Refresh: 3600,
				Retry:   600,
				Expire:  86400,
				Minttl:  60,
			},
		}
	}
	return nil
}

func header(name string, kind uint16) dns.RR_Header {
	return dns.RR_Header{Name: name, Rrtype: kind, Class: dns.ClassINET, Ttl: 300}
}
