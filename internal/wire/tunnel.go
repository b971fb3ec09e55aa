package wire

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// tunnelTo is a request for a tunnel to the place that a path names, through
// which nothing is sent (RFC 9110 section 9.3.6); without one, for what a proxy
// can do.
func tunnelTo(path, host, more string) (method, place, request string) {
	method = "CONNECT"
	place, _, _ = strings.Cut(strings.Trim(path, "/"), "?")
	if place != "" {
		host = place
	} else {
		method, place = "OPTIONS", "*"
	}
	return method, place, fmt.Sprintf(
		"%s %s HTTP/1.1\r\nHost: %s\r\nUser-Agent: uakari\r\n%s\r\n",
		method,
		place,
		host,
		more,
	)
}

// askTunnel asks a proxy for the tunnel that the endpoint names behind its host.
func askTunnel(c *Conn, q Question) fact.Reply {
	method, place, request := tunnelTo(q.Path, q.Host, "")
	asked := "a tunnel to " + place
	if method == "OPTIONS" {
		asked = "what it can do"
	}
	return c.ask("proxy", asked, request, func(r *fact.Reply) error {
		answer, ways, err := c.tunnelAnswer(method)
		if err != nil {
			return errors.Join(err, c.stranger(r))
		}
		r.Status, r.Program, r.Ways = answer.StatusCode, foreign.Clean(answer.Header.Get("Server")), ways
		r.Refused = r.Status == http.StatusProxyAuthRequired
		if method == "CONNECT" && r.Status/100 != 2 && !r.Refused {
			r.Code, r.Text = strconv.Itoa(r.Status), foreign.Clean(http.StatusText(r.Status))
		}
		// That it knows no such method or page is an answer; that it forbids is none.
		if s := r.Status; method == "OPTIONS" && (s == http.StatusUnauthorized || s == http.StatusForbidden ||
			s >= 500 && s != http.StatusNotImplemented) {
			r.Code, r.Text = strconv.Itoa(s), foreign.Clean(http.StatusText(s))
		}
		return nil
	})
}

// tunnelAnswer reads the head of an answer, and the ways to sign in that it
// offers.
func (c *Conn) tunnelAnswer(method string) (*http.Response, []string, error) {
	answer, err := http.ReadResponse(c.r, &http.Request{Method: method})
	if err != nil {
		if ending(err) != fact.Malformed {
			return nil, nil, err
		}
		return nil, nil, errNotHTTP
	}
	answer.Body.Close()
	var ways []string
	for _, challenge := range answer.Header.Values("Proxy-Authenticate") {
		way, _, _ := strings.Cut(challenge, " ")
		ways = append(ways, foreign.Clean(way))
	}
	return answer, ways, nil
}

// loginTunnel asks for the tunnel as an account, by name and secret, which
// shows the secret (RFC 7617).
func loginTunnel(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "basic"}
	if !with.Show {
		return shows("by basic", nil), nil
	}
	proof := base64.StdEncoding.EncodeToString([]byte(with.Account + ":" + with.Secret))
	method, _, request := tunnelTo(with.Path, with.Host, "Proxy-Authorization: Basic "+proof+"\r\n")
	with.presenting()
	if _, err := io.WriteString(c, request); err != nil {
		return l, err
	}
	answer, ways, err := c.tunnelAnswer(method)
	if err != nil {
		return l, err
	}
	l.Code, l.Text, l.Offered = strconv.Itoa(answer.StatusCode), answer.Status, ways
	if answer.StatusCode == http.StatusProxyAuthRequired && len(ways) > 0 && !hasWay(ways, "basic") {
		l.Code, l.Text = "mechanism", "it takes no account by basic"
	}
	l.Outcome = outcome(answer.StatusCode/100 == 2)
	return l, nil
}
