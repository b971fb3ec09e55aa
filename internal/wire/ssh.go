package wire

import (
	"strings"

	"uakari/internal/fact"
)

// greetSSH reads an identification string; a server may send other lines
// before it (RFC 4253 section 4.2).
func greetSSH(c *Conn) fact.Greeting {
	const mostLines = 20
	g := fact.Greeting{}
	for range mostLines {
		g = c.firstLine("ssh", func(s string) bool { return strings.HasPrefix(s, "SSH-") })
		if g.Protocol != "" || g.Ending != fact.Malformed || len(g.Head) == 0 {
			break
		}
	}
	return g
}
