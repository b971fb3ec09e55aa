package wire

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"crypto/sha1"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/fact"
)

// saslWays is the ways of SASL that are spoken here, the best first, and
// whether each shows the secret to whoever reads it: those that never do go
// before those that do (RFC 7677, RFC 5802, RFC 2831, RFC 2195, RFC 4616; LOGIN
// was never more than a draft, and is everywhere).
var saslWays = []struct {
	name  string
	shows bool
}{
	{"SCRAM-SHA-256", false},
	{"SCRAM-SHA-1", false},
	{"DIGEST-MD5", false},
	{"CRAM-MD5", false},
	{"PLAIN", true},
	{"LOGIN", true},
}

// saslWay is the best way of those that a server offers and that may be gone;
// if it is none, whether one is spoken here that would show the secret.
func saslWay(offered []string, show bool) (way string, showing bool) {
	for _, w := range saslWays {
		if !slices.Contains(offered, w.name) {
			continue
		}
		if !w.shows || show {
			return w.name, false
		}
		showing = true
	}
	return "", showing
}

// sasl is one exchange, from the client's side.
type sasl struct {
	way     string
	service string // the protocol's registered name, of DIGEST-MD5: "imap"
	with    Credentials
	scram
	step int
}

func newSASL(way, service string, with Credentials) *sasl {
	s := &sasl{way: way, service: service, with: with}
	if way == "SCRAM-SHA-1" {
		s.hash = sha1.New
	}
	return s
}

// next is what the client says to a challenge.
func (s *sasl) next(challenge string) (string, error) {
	s.step++
	switch {
	case s.way == "PLAIN" && s.step == 1:
		return "\x00" + s.with.Account + "\x00" + s.with.Secret, nil
	case s.way == "LOGIN" && s.step == 1:
		return s.with.Account, nil
	case s.way == "LOGIN" && s.step == 2:
		return s.with.Secret, nil
	case s.way == "CRAM-MD5" && s.step == 1:
		h := hmac.New(md5.New, []byte(s.with.Secret))
		io.WriteString(h, challenge)
		return s.with.Account + " " + hex.EncodeToString(h.Sum(nil)), nil
	case s.way == "DIGEST-MD5" && s.step == 1:
		return s.digest(challenge)
	case s.way == "DIGEST-MD5" && s.step == 2:
		return "", nil // the server's own proof; a wrong one harms only it
	case strings.HasPrefix(s.way, "SCRAM-") && s.step == 1:
		return s.first(s.with.Account), nil
	case strings.HasPrefix(s.way, "SCRAM-") && s.step == 2:
		return s.last(challenge, s.with.Secret)
	case strings.HasPrefix(s.way, "SCRAM-") && s.step == 3:
		return "", nil // as above
	}
	return "", errSASL
}

// digest answers a challenge of DIGEST-MD5 (RFC 2831 section 2.1.2).
func (s *sasl) digest(text string) (string, error) {
	parsed := challenges([]string{"digest " + text})
	if len(parsed) == 0 || parsed[0].params["nonce"] == "" {
		return "", errSASL
	}
	p := parsed[0].params
	sum := func(parts ...string) string {
		h := md5.Sum([]byte(strings.Join(parts, ":")))
		return hex.EncodeToString(h[:])
	}
	host, _, _ := strings.Cut(s.with.Host, ":")
	cnonce, uri, secret := rand.Text(), s.service+"/"+host, md5.Sum(
		[]byte(s.with.Account+":"+p["realm"]+":"+s.with.Secret),
	)
	first := sum(string(secret[:]), p["nonce"], cnonce)
	const count = "00000001"
	response := sum(first, p["nonce"], count, cnonce, "auth", sum("AUTHENTICATE", uri))
	return fmt.Sprintf(
		"charset=utf-8,username=%s,realm=%s,nonce=%s,nc=%s,cnonce=%s,digest-uri=%s,response=%s,qop=auth",
		strconv.Quote(
			s.with.Account,
		),
		strconv.Quote(p["realm"]),
		strconv.Quote(p["nonce"]),
		count,
		strconv.Quote(cnonce),
		strconv.Quote(uri),
		response,
	), nil
}

var errSASL = errors.New("the server asks for more than there is to say")

// answerLine answers one challenge, both in base64, as mail protocols have it.
func (s *sasl) answerLine(c *Conn, challenge string) error {
	text, err := base64.StdEncoding.DecodeString(strings.TrimSpace(challenge))
	if err != nil && s.step > 0 {
		return errSASL
	}
	answer, err := s.next(string(text))
	if err != nil {
		return err
	}
	s.with.presenting()
	_, err = io.WriteString(c, base64.StdEncoding.EncodeToString([]byte(answer))+"\r\n")
	return err
}

// notOffered is a login that was not tried: no way that the server offers is
// spoken here.
func notOffered(offered []string) fact.Login {
	var ours []string
	for _, w := range saslWays {
		ours = append(ours, w.name)
	}
	return fact.Login{
		Outcome:   fact.LoginRefused,
		Mechanism: strings.Join(ours, ", "),
		Offered:   offered,
		Code:      "mechanism",
		Text:      "it offers none of these",
	}
}

// mostChallenges bounds how often a server may ask.
const mostChallenges = 10

func hasWay(ways []string, want string) bool {
	for _, w := range ways {
		if strings.EqualFold(w, want) {
			return true
		}
	}
	return false
}
