package wire

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// greetFTP reads "220 …"; 4xx and 5xx are refusals (RFC 959 section 5.4). It
// is a greeting as that of mail servers is.
func greetFTP(c *Conn) fact.Greeting {
	g := greetSMTP(c)
	if g.Protocol == "smtp" {
		g.Protocol = "ftp"
	}
	return g
}

// upgradeFTP asks for TLS (RFC 4217 section 4).
func upgradeFTP(c *Conn) fact.Upgrade {
	return c.askUpgrade("AUTH TLS\r\n", func(answer string) bool { return strings.HasPrefix(answer, "234") })
}

// askFTP asks for nothing (RFC 959 section 4.1.3). Servers that want an
// account first say so.
func askFTP(c *Conn, _ Question) fact.Reply {
	return c.ask("ftp", "NOOP", "NOOP\r\n", func(r *fact.Reply) error {
		code, text, err := c.smtpReply()
		if err == nil && (code < 100 || code > 599) {
			err = errNotFTP
		}
		r.Status, r.Text, r.Refused = code, foreign.Clean(text), code == 530
		if code >= 400 && code != 530 {
			r.Code = strconv.Itoa(code)
		}
		return err
	})
}

var errNotFTP = errors.New("not FTP")

// loginFTP signs in by name and secret, which shows the secret (RFC 959
// section 5.4).
func loginFTP(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "USER and PASS"}
	if !with.Show {
		return shows("USER and PASS", nil), nil
	}
	if strings.ContainsAny(with.Account+with.Secret, "\r\n") {
		return l, errors.New("the account or secret has a line's end in it")
	}
	with.presenting()
	code := 0
	for _, line := range []string{"USER " + with.Account, "PASS " + with.Secret} {
		if _, err := fmt.Fprintf(c, "%s\r\n", line); err != nil {
			return l, err
		}
		var err error
		if code, l.Text, err = c.smtpReply(); err != nil {
			return l, err
		}
		if code != 331 {
			break
		}
	}
	switch {
	case code == 230:
		l.Outcome, l.Text = fact.LoginAccepted, ""
	case code == 332:
		l.Outcome, l.Code = fact.LoginMore, "332"
	case code >= 400:
		l.Outcome, l.Code = fact.LoginRefused, strconv.Itoa(code)
		l.Text = strings.TrimPrefix(l.Text, l.Code+" ")
	default:
		return l, errNotFTP
	}
	return l, nil
}
