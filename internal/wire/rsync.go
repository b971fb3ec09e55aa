package wire

import (
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// greetRsync reads "@RSYNCD: VERSION"; "@ERROR" is a refusal.
func greetRsync(c *Conn) fact.Greeting {
	g := c.firstLine(
		"rsync",
		func(s string) bool { return strings.HasPrefix(s, "@RSYNCD: ") || strings.HasPrefix(s, "@ERROR") },
	)
	if strings.HasPrefix(g.Head, "@ERROR") {
		g.Refusal, g.Code, g.Protocol = strings.TrimPrefix(g.Head, "@ERROR: "), "@ERROR", "rsync"
	}
	return g
}

// askRsync asks for the module that the endpoint names, or for the list of all
// (clientserver.c of rsync).
func askRsync(c *Conn, q Question) fact.Reply {
	module, _, _ := strings.Cut(strings.Trim(q.Path, "/"), "/")
	asked := "module " + module
	if module == "" {
		module, asked = "#list", "the modules"
	}
	return c.ask("rsync", asked, "@RSYNCD: 31.0\n"+module+"\n", func(r *fact.Reply) error {
		for {
			text, err := c.line()
			switch {
			case strings.HasPrefix(text, "@RSYNCD: OK"), strings.HasPrefix(text, "@RSYNCD: EXIT"):
				return nil
			case strings.HasPrefix(text, "@RSYNCD: AUTHREQD"):
				r.Refused = true
				return nil
			case strings.HasPrefix(text, "@ERROR"):
				r.Code, r.Text = "@ERROR", foreign.Clean(strings.TrimPrefix(text, "@ERROR: "))
				return nil
			case err != nil:
				return err
			}
		}
	})
}
