package wire

import "uakari/internal/fact"

// askSIP asks what a server can do (RFC 3261 section 11). That it knows no
// such address is an answer.
func askSIP(c *Conn, q Question) fact.Reply {
	via, local := "TCP", "127.0.0.1:5060"
	if q.Datagram {
		via = "UDP"
	}
	if c.LocalAddr() != nil {
		local = c.LocalAddr().String()
	}
	send := "OPTIONS sip:" + q.Host + " SIP/2.0\r\nVia: SIP/2.0/" + via + " " + local +
		";rport;branch=z9hG4bKuakari1\r\nMax-Forwards: 70\r\nFrom: <sip:uakari@" + local +
		">;tag=u1\r\nTo: <sip:" + q.Host + ">\r\nCall-ID: uakari-" + local +
		"\r\nCSeq: 1 OPTIONS\r\nContact: <sip:uakari@" + local +
		">\r\nAccept: application/sdp\r\nContent-Length: 0\r\n\r\n"
	return c.ask("sip", "OPTIONS", send, func(r *fact.Reply) error { return c.status(r, "SIP/2.0") })
}
