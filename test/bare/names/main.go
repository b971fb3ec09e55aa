// Command names is a bare name server on the address of its first argument: it has one
// address for every name.
package main

import (
	"fmt"
	"net"
	"os"

	"github.com/miekg/dns"
)

func main() {
	packets, err := net.ListenPacket("udp", os.Args[1])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	answer := dns.HandlerFunc(func(w dns.ResponseWriter, question *dns.Msg) {
		reply := new(dns.Msg)
		reply.SetReply(question)
		for _, q := range question.Question {
			if head := (dns.RR_Header{Name: q.Name, Rrtype: dns.TypeA, Class: dns.ClassINET,
				Ttl: 60}); q.Qtype == dns.TypeA {
				reply.Answer = append(reply.Answer, &dns.A{Hdr: head, A: net.IPv4(10, 20, 0, 14)})
			}
		}
		w.WriteMsg(reply)
	})
	fmt.Fprintln(os.Stderr, (&dns.Server{PacketConn: packets, Handler: answer}).ActivateAndServe())
	os.Exit(1)
}
