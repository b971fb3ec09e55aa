package wire

import (
	"net/url"

	"uakari/internal/fact"
)

// askRTSP asks what a server can do (RFC 2326 section 10.1).
func askRTSP(c *Conn, q Question) fact.Reply {
	at := url.URL{Scheme: "rtsp", Host: q.Host, Path: q.Path}
	send := "OPTIONS " + at.String() + " RTSP/1.0\r\nCSeq: 1\r\nUser-Agent: uakari\r\n\r\n"
	return c.ask("rtsp", "OPTIONS", send, func(r *fact.Reply) error { return c.status(r, "RTSP/1.0") })
}
