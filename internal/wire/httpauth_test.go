package wire

import (
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
)

// TestChallenges is what servers offer, in one line or in several.
func TestChallenges(t *testing.T) {
	type params = map[string]string
	for _, c := range []struct {
		values []string
		want   []challenge
	}{
		{nil, nil},
		{[]string{`Basic realm="tides"`}, []challenge{{"basic", params{"realm": "tides"}}}},
		{[]string{`Negotiate`, `Basic realm=tides, charset="UTF-8"`},
			[]challenge{{"negotiate", params{}}, {"basic", params{"realm": "tides", "charset": "UTF-8"}}}},
		{[]string{`Digest realm="a, \"b\"", qop="auth,auth-int", nonce=x1, Bearer error="invalid_token"`},
			[]challenge{{"digest", params{"realm": `a, "b"`, "qop": "auth,auth-int", "nonce": "x1"}},
				{"bearer", params{"error": "invalid_token"}}}},
		{[]string{`realm="of nothing"`}, nil},
		{[]string{`Digest realm="cut`, "\x00\x1b["}, []challenge{{"digest", params{"realm": "cut"}}}},
	} {
		if got := challenges(c.values); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%q: %+v, want %+v", c.values, got, c.want)
		}
	}
}

// TestWebLogins signs in to a web server in each way that it may offer.
func TestWebLogins(t *testing.T) {
	const account, secret = "svc-tide", "tide7"
	md := func(text string) string { return fmt.Sprintf("%x", md5.Sum([]byte(text))) }
	sha := func(text string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(text))) }
	digest := func(h func(string) string) func(string) bool {
		return func(authorization string) bool {
			list := challenges([]string{authorization})
			if len(list) != 1 || list[0].scheme != "digest" {
				return false
			}
			p := list[0].params
			want := h(
				strings.Join([]string{h(account + ":tides:" + secret), "n1", p["nc"], p["cnonce"], "auth",
					h("GET:/level")}, ":"),
			)
			return p["username"] == account && p["uri"] == "/level" && p["opaque"] == "o1" && p["response"] == want
		}
	}
	basic := "Basic " + base64.StdEncoding.EncodeToString([]byte(account+":"+secret))
	for _, c := range []struct {
		name, offers string
		takes        func(authorization string) bool
		mechanism    string
		code         string
	}{
		{"basic", `Basic realm="tides"`, func(a string) bool { return a == basic }, "basic", "200"},
		{"digest", `Digest realm="tides", nonce="n1", opaque="o1", qop="auth"`, digest(md), "digest", "200"},
		{"a newer digest", `Digest realm="tides", nonce="n1", opaque="o1", qop="auth", algorithm=SHA-256`, digest(sha),
			"digest", "200"},
		{"digest before basic", `Basic realm="tides", Digest realm="tides", nonce="n1", opaque="o1", qop="auth"`,
			digest(md), "digest", "200"},
		{"a token", `Bearer realm="tides"`, func(a string) bool { return a == "Bearer "+secret }, "bearer", "200"},
		{"a ticket alone", `Negotiate`, func(string) bool { return false }, "basic, digest or bearer", "mechanism"},
		{"refused", `Basic realm="tides"`, func(string) bool { return false }, "basic", "401"},
		{"nobody is asked", "", func(string) bool { return true }, "", "not-asked"},
	} {
		var sent []string // what came with the requests
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			a := r.Header.Get("Authorization")
			sent = append(sent, a)
			if c.offers != "" && (a == "" || !c.takes(a)) {
				w.Header().Set("WWW-Authenticate", c.offers)
				w.WriteHeader(http.StatusUnauthorized)
			}
		}))
		dial := func() (*Conn, error) {
			conn, err := net.Dial("tcp", server.Listener.Addr().String())
			if err != nil {
				return nil, err
			}
			conn.SetDeadline(time.Now().Add(5 * time.Second))
			return NewConn(conn), nil
		}
		first, err := dial()
		if err != nil {
			t.Fatal(err)
		}
		l := TryLogin(
			first,
			"http",
			Credentials{
				Account: account,
				Secret:  secret,
				Host:    "tidebook.varzea.example",
				Path:    "/level",
				Show:    true,
				Again:   dial,
			},
		)
		first.Close()
		server.Close()
		if l.Mechanism != c.mechanism || l.Code != c.code || (l.Outcome == fact.LoginAccepted) != (c.code == "200") {
			t.Errorf("%s: %+v", c.name, l)
		}
		tries := 0
		for _, a := range sent {
			if a != "" {
				tries++
			}
		}
		unasked := c.code == "mechanism" || c.code == "not-asked"
		if want := map[bool]int{true: 0, false: 1}[unasked]; tries != want || sent[0] != "" {
			t.Errorf("%s: %d tries, want %d: %q", c.name, tries, want, sent)
		}
	}
}
