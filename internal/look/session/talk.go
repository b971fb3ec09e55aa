package session

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/wire"
)

// mostExpected bounds what is read while something is waited for, in bytes.
const mostExpected = 64 << 10

// talk is the talk of the card, where the endpoint's scheme says nothing of
// what is spoken; nil where there is none.
func (c *climber) talk() *fact.Talk {
	if c.env.Card == nil || c.scheme.Wire != "" || c.scheme.UDP {
		return nil
	}
	return c.env.Card.Talk
}

// converse goes through the talk as far as it needs no account, and leaves how
// it went as an answer.
func (c *climber) converse(ctx context.Context) {
	began := time.Now()
	r := fact.Reply{Protocol: "talk", Asked: "the talk of the card"}
	var heard string
	for i, s := range c.talk().Steps {
		if s.SignsIn() {
			r.Refused = true // it goes on with an account
			break
		}
		var err error
		heard, err = c.take(ctx, s, func(text string) string { return text })
		if r.FirstMS == 0 && heard != "" {
			r.FirstMS = wire.MS(time.Since(began))
		}
		if errors.Is(err, errUnexpected) {
			r.Code, r.Text = fmt.Sprintf("step %d", i+1), foreign.Clean(heard)
			break
		}
		if err != nil {
			r.Ending, r.Text = wire.Ending(err), foreign.Clean(heard)
			break
		}
	}
	if r.Ending == "" {
		r.Ending = fact.Done
	}
	r.TookMS = wire.MS(time.Since(began))
	f := c.env.Seen(c.order, fmt.Sprintf("%s with %s", r.Asked, c.address()), sawReply(r))
	f.Reply = &r
	c.emit(f)
}

// loginTalk is the one login try of a talk: all of it, with the account.
func (c *climber) loginTalk(ctx context.Context) fact.Login {
	l := fact.Login{Mechanism: "the talk of the card"}
	presented := false
	for _, s := range c.talk().Steps {
		if strings.Contains(s.Send, fact.SecretPlace) {
			if show, why := c.mayShow(); !show { // TLS may have begun since the start
				l.Outcome, l.Text = fact.LoginWithheld, why
				if why == "" {
					c.neverShown(&l)
				}
				return l
			}
		}
		presented = presented || s.SignsIn()
		heard, err := c.take(ctx, s, func(text string) string {
			return strings.NewReplacer(fact.AccountPlace, c.order.Target.Account, fact.SecretPlace, c.env.Secret).
				Replace(text)
		})
		heard = foreign.Clean(strings.ReplaceAll(heard, c.env.Secret, "…"))
		switch {
		case err == nil:
		case !presented:
			l.Outcome, l.Text = fact.LoginFailed, "the session did not come up"
			return l
		case errors.Is(err, errUnexpected):
			l.Outcome, l.Text = fact.LoginRefused, heard
			return l
		case wire.Ending(err) == fact.Stalled:
			l.Outcome, l.Text = fact.LoginStalled, "the account was presented, and no answer came in time"
			return l
		default:
			l.Outcome, l.Text = fact.LoginCut,
				"the server closed the connection without a word, after the account was presented"
			return l
		}
	}
	l.Outcome = fact.LoginAccepted
	return l
}

var errUnexpected = errors.New("something else came than is expected")

// take takes one step, and says what it heard.
func (c *climber) take(ctx context.Context, s fact.TalkStep, fill func(string) string) (heard string, err error) {
	wait := c.env.StepTime()
	if d, err := time.ParseDuration(s.Within); err == nil && s.Within != "" {
		wait = d
	}
	until := time.Now().Add(look.Within(ctx, wait))
	c.conn.SetDeadline(until)
	switch {
	case s.TLS != "":
		if !c.handshake(ctx) {
			return "", io.ErrUnexpectedEOF
		}
		return "", nil
	case s.Send != "":
		_, err := io.WriteString(c.conn, fill(s.Send))
		return "", err
	case s.Hex != "":
		bytes, err := hex.DecodeString(strings.Join(strings.Fields(s.Hex), ""))
		if err == nil {
			_, err = c.conn.Write(bytes)
		}
		return "", err
	}
	expected, err := regexp.Compile(s.Expect)
	if err != nil {
		return "", err // the card was checked
	}
	var came []byte
	buffer := make([]byte, 4<<10)
	for !expected.Match(came) {
		// What ends with a line and does not match is something else.
		if n := len(came); n >= mostExpected || n > 0 && came[n-1] == '\n' && c.conn.Idle(settleTime) {
			return string(came), errUnexpected
		}
		c.conn.SetDeadline(until)
		n, err := c.conn.Read(buffer)
		came = append(came, buffer[:n]...)
		if err != nil && !expected.Match(came) {
			if len(came) > 0 {
				return string(came), errUnexpected
			}
			return "", err
		}
	}
	return string(came), nil
}
