package wire

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// askGit asks for what a repository holds; a server that knows none of the
// name says so, which is an answer where the endpoint names none (git's
// pack-protocol).
func askGit(c *Conn, q Question) fact.Reply {
	path := q.Path
	if path == "" {
		path = "/"
	}
	host, _, _ := strings.Cut(q.Host, ":")
	line := "git-upload-pack " + path + "\x00host=" + host + "\x00"
	return c.ask("git", path, fmt.Sprintf("%04x%s", len(line)+4, line), func(r *fact.Reply) error {
		head, err := c.r.Peek(8)
		if err != nil && len(head) < 4 {
			return err
		}
		if !pktLine.Match(head[:4]) || string(head[:4]) != "0000" && !advertises(c) {
			return c.stranger(r)
		}
		if len(head) == 8 && bytes.HasPrefix(head[4:], []byte("ERR ")) {
			text, _ := c.line()
			if r.Text = foreign.Clean(strings.TrimSpace(text[8:])); q.Path != "" && q.Path != "/" {
				r.Code = "ERR"
			}
		}
		return nil
	})
}

// advertises reports whether a line is what a server begins with: the first of its
// references, a version, or an error (git's pack-protocol).
func advertises(c *Conn) bool {
	line, _ := c.r.Peek(44)
	return reference.Match(line)
}

var reference = regexp.MustCompile(`^....([0-9a-f]{40}|version |ERR )`)

var pktLine = regexp.MustCompile(`^[0-9a-fA-F]{4}$`)
