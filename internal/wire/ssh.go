package wire

import (
	"strings"

	"uakari/internal/fact"
)

// turnedAway is what OpenSSH writes in place of its identification when it
// has no room for a client, or blocks its host.
var turnedAway = []string{"Exceeded MaxStartups", "Not allowed at this time"}

// greetSSH reads an identification string; a server may send other lines
// before it (RFC 4253 section 4.2).
func greetSSH(c *Conn) fact.Greeting {
	const mostLines = 20
	g := fact.Greeting{}
	for range mostLines {
		g = c.firstLine("ssh", func(s string) bool { return strings.HasPrefix(s, "SSH-") })
		for _, words := range turnedAway {
			if strings.Contains(g.Head, words) {
				g.Ending, g.Protocol, g.Refusal = fact.Done, "ssh", g.Head
				return g
			}
		}
		if g.Protocol != "" || g.Ending != fact.Malformed || len(g.Head) == 0 {
			break
		}
	}
	return g
}
