package wire

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// askRedis asks for an echo (PING). An answer that wants an account is well.
func askRedis(c *Conn, _ Question) fact.Reply {
	return c.ask("redis", "PING", "*1\r\n$4\r\n"+"PING"+"\r\n", func(r *fact.Reply) error {
		text, err := c.line()
		r.Text = foreign.Clean(text)
		code, words, _ := strings.Cut(strings.TrimPrefix(r.Text, "-"), " ")
		switch {
		case err != nil:
			return err
		case strings.HasPrefix(text, "-NOAUTH"), strings.HasPrefix(text, "-NOPERM"):
			r.Refused = true
		case strings.HasPrefix(text, "-") && code != "" && code == strings.ToUpper(code) && words != "":
			r.Code, r.Text = code, words
		case text != "+PONG":
			r.Spoke = Recognise([]byte(text))
			return errNotRedis
		default:
			if told := c.redisHolds(); told != "" {
				r.Code, r.Text, _ = strings.Cut(foreign.Clean(told), " ")
			}
		}
		return nil
	})
}

var errNotRedis = errors.New("not Redis")

// loginRedis authenticates by AUTH, with an account if it is not the default
// one.
func loginRedis(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "AUTH"}
	if !with.Show {
		return shows("AUTH", nil), nil
	}
	words := []string{"AUTH", with.Account, with.Secret}
	if with.Account == "default" {
		words = []string{"AUTH", with.Secret}
	}
	with.presenting()
	if _, err := io.WriteString(c, redisQuestion(words)); err != nil {
		return l, err
	}
	text, err := c.line()
	if err != nil {
		return l, err
	}
	if rest, ok := strings.CutPrefix(text, "-"); ok {
		l.Code, l.Text, _ = strings.Cut(rest, " ")
	}
	if !strings.HasPrefix(text, "+") && !strings.HasPrefix(text, "-") {
		return l, errNotRedis
	}
	if l.Outcome = outcome(text[0] == '+'); l.Outcome == fact.LoginAccepted {
		l.Lacks = c.redisRights(with.Path)
	}
	return l, nil
}

// redisRights asks, in a session that is open, for the database that the
// endpoint names and for an answer: an account may be let in to nothing.
func (c *Conn) redisRights(path string) []fact.LackingRight {
	ask := c.redisSays
	right := fact.Right{May: "run", On: "PING"}
	number, _, _ := strings.Cut(strings.Trim(path, "/"), "?")
	if _, err := strconv.ParseUint(number, 10, 16); err == nil {
		switch text := ask("SELECT", number); {
		case strings.HasPrefix(text, "-NOPERM"):
			right = fact.Right{May: "run", On: "SELECT"}
			return []fact.LackingRight{{Right: right, Level: "command SELECT", Told: text[1:]}}
		case strings.HasPrefix(text, "-"):
			return []fact.LackingRight{
				{Right: fact.Right{May: "use", On: number}, Level: "database " + number, Absent: true, Told: text[1:]},
			}
		}
	}
	if text := ask("PING"); strings.HasPrefix(text, "-NOPERM") {
		return []fact.LackingRight{{Right: right, Level: "command PING", Told: text[1:]}}
	}
	if told := c.redisHolds(); told != "" {
		return []fact.LackingRight{{Right: fact.Right{May: "read", On: "data"}, Level: "data", Told: told}}
	}
	return nil
}

// redisSays asks one question and gives the first line of its answer; "" for none.
func (c *Conn) redisSays(words ...string) string {
	if _, err := io.WriteString(c, redisQuestion(words)); err != nil {
		return ""
	}
	text, err := c.line()
	if err != nil {
		return ""
	}
	return text
}

// redisHolds is why a server that answers gives out no data; "" if it does. One that
// copies another may be set to give out nothing while it cannot, and a cluster gives out
// nothing while a part of it is gone.
func (c *Conn) redisHolds() string {
	text := c.redisSays("EXISTS", "uakari")
	if strings.HasPrefix(text, "-MASTERDOWN") || strings.HasPrefix(text, "-CLUSTERDOWN") {
		return text[1:]
	}
	return ""
}

// redisQuestion is an array of words as clients send it (RESP).
func redisQuestion(words []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "*%d\r\n", len(words))
	for _, w := range words {
		fmt.Fprintf(&b, "$%d\r\n%s\r\n", len(w), w)
	}
	return b.String()
}
