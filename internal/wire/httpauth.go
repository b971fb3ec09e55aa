package wire

import (
	"crypto/md5"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash"
	"net/textproto"
	"slices"
	"strconv"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// challenge is one way to sign in that a web server offers (RFC 9110 section
// 11.6.1).
type challenge struct {
	scheme string // in lower case
	params map[string]string
}

// challenges reads the values of WWW-Authenticate. One value may hold several.
func challenges(values []string) []challenge {
	var list []challenge
	for _, value := range values {
		for rest := value; ; {
			rest = strings.TrimLeft(rest, " \t,")
			word := token(rest)
			if word == "" {
				break
			}
			after := rest[len(word):]
			trimmed := strings.TrimLeft(after, " \t")
			if !strings.HasPrefix(trimmed, "=") {
				list = append(list, challenge{strings.ToLower(foreign.Clean(word)), map[string]string{}})
				rest = after
				continue
			}
			param, left := quoted(strings.TrimLeft(trimmed[1:], " \t"))
			if len(list) > 0 {
				list[len(list)-1].params[strings.ToLower(word)] = param
			}
			rest = left
		}
	}
	return list
}

// token is the characters of a name at the beginning of a text (RFC 9110
// section 5.6.2).
func token(s string) string {
	end := strings.IndexFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("!#$%&'*+-.^_`|~/", r))
	})
	if end < 0 {
		return s
	}
	return s[:end]
}

// quoted reads a value, in quotes or bare, and gives what follows it.
func quoted(s string) (value, rest string) {
	if !strings.HasPrefix(s, `"`) {
		end := strings.IndexAny(s, ", \t")
		if end < 0 {
			return s, ""
		}
		return s[:end], s[end:]
	}
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] == '\\' && i+1 < len(s):
			i++
			b.WriteByte(s[i])
		case s[i] == '"':
			return b.String(), s[i+1:]
		default:
			b.WriteByte(s[i])
		}
	}
	return b.String(), ""
}

// digests is the hashes of the digest scheme (RFC 7616 section 6.1).
var digests = map[string]func() hash.Hash{"": md5.New, "md5": md5.New, "sha-256": sha256.New}

// httpAuthorization is what to send for an account, by the best way that is
// offered and spoken here; no mechanism if there is none. A secret goes out as
// it is only where the server asks for that.
func httpAuthorization(list []challenge, with Credentials, path string) (mechanism, header string) {
	by := func(scheme string) *challenge {
		at := slices.IndexFunc(list, func(c challenge) bool {
			_, known := digests[strings.ToLower(c.params["algorithm"])]
			return c.scheme == scheme && (scheme != "digest" || known)
		})
		if at < 0 {
			return nil
		}
		return &list[at]
	}
	switch c := by("digest"); {
	case c != nil:
		return "digest", "Digest " + c.digest(with, path)
	case len(list) == 0 || by("basic") != nil:
		return "basic", "Basic " + base64.StdEncoding.EncodeToString([]byte(with.Account+":"+with.Secret))
	case by("bearer") != nil:
		return "bearer", "Bearer " + with.Secret
	}
	return "", ""
}

// digest answers a challenge (RFC 7616 section 3.4).
func (c challenge) digest(with Credentials, path string) string {
	algorithm := c.params["algorithm"]
	h := func(parts ...string) string {
		sum := digests[strings.ToLower(algorithm)]()
		sum.Write([]byte(strings.Join(parts, ":")))
		return hex.EncodeToString(sum.Sum(nil))
	}
	random := make([]byte, 16)
	rand.Read(random) // never fails
	cnonce, nonce, realm := hex.EncodeToString(random), c.params["nonce"], c.params["realm"]
	secret, asked := h(with.Account, realm, with.Secret), h("GET", path)
	fields := fmt.Sprintf(
		"username=%s, realm=%s, nonce=%s, uri=%s",
		strconv.Quote(with.Account),
		strconv.Quote(realm),
		strconv.Quote(nonce),
		strconv.Quote(path),
	)
	if qop := strings.FieldsFunc(c.params["qop"], func(r rune) bool { return r == ',' || r == ' ' }); slices.Contains(
		qop,
		"auth",
	) {
		const count = "00000001"
		fields += fmt.Sprintf(
			", qop=auth, nc=%s, cnonce=\"%s\", response=\"%s\"",
			count,
			cnonce,
			h(secret, nonce, count, cnonce, "auth", asked),
		)
	} else {
		fields += fmt.Sprintf(", response=\"%s\"", h(secret, nonce, asked))
	}
	if algorithm != "" {
		fields += ", algorithm=" + algorithm
	}
	if opaque := c.params["opaque"]; opaque != "" {
		fields += ", opaque=" + strconv.Quote(opaque)
	}
	return fields
}

// loginHTTP asks without an account first, to learn which ways are offered,
// and then once with it, on a connection of its own.
func loginHTTP(c *Conn, with Credentials) (fact.Login, error) {
	path := with.Path
	if path == "" {
		path = "/"
	}
	var offered []challenge
	if with.Again != nil {
		first, header, err := c.getAs(with.Host, path, "")
		if err != nil {
			return fact.Login{Mechanism: "basic"}, err
		}
		if first.Status != 401 {
			return fact.Login{Outcome: fact.LoginWithheld, Code: "not-asked",
				Text:  fmt.Sprintf("the page asks for no login (it answers %d)", first.Status),
				Needs: "a path that asks for one"}, nil
		}
		offered = challenges(header["Www-Authenticate"])
		if c, err = with.Again(); err != nil {
			return fact.Login{Mechanism: "basic"}, err
		}
		defer c.Close()
	}
	mechanism, authorization := httpAuthorization(offered, with, path)
	l := fact.Login{Mechanism: mechanism}
	for _, o := range offered {
		l.Offered = append(l.Offered, o.scheme)
	}
	if mechanism != "" && mechanism != "digest" && !with.Show {
		return shows("by "+mechanism, l.Offered), nil
	}
	if mechanism == "" {
		l.Outcome, l.Mechanism, l.Code, l.Text = fact.LoginRefused, "basic, digest or bearer", "mechanism",
			"it offers none of these"
		return l, nil
	}
	with.presenting()
	r, header, err := c.getAs(with.Host, path, authorization)
	if err != nil {
		return l, err
	}
	if again := challenges(header["Www-Authenticate"]); len(l.Offered) == 0 {
		for _, o := range again {
			l.Offered = append(l.Offered, o.scheme)
		}
	}
	l.Code, l.Text = strconv.Itoa(r.Status), r.Reason
	if r.Status == 401 && len(l.Offered) > 0 && !slices.Contains(l.Offered, mechanism) {
		l.Code, l.Text = "mechanism", "it takes no account by "+mechanism
	}
	l.Outcome = outcome(r.Status < 400 || r.Status == 404 || r.Status == 405)
	if code, text := refusedWith(r, challenges(header["Www-Authenticate"])); code != "" && l.Code != "mechanism" {
		l.Code, l.Text, l.Outcome = code, text, fact.LoginRefused
		if code == "second-factor" {
			l.Outcome = fact.LoginMore
		}
	}
	return l, nil
}

// moreWords is where an answer leads, by its parts, that asks a person for more
// than an account: a code, or a consent.
var moreWords = map[string]string{
	"mfa": "second-factor", "2fa": "second-factor", "otp": "second-factor", "totp": "second-factor",
	"two-factor":    "second-factor",
	"second-factor": "second-factor", "second_factor": "second-factor", "twofactor": "second-factor",
	"consent": "consent_required", "login": "sign-in-page", "signin": "sign-in-page", "sign-in": "sign-in-page",
	"sign_in": "sign-in-page",
}

// refusedWith is the code with which a server refuses an account beside its
// status: the error of its challenge (RFC 6750 section 3.1, RFC 9470), that of
// its body (RFC 6749 section 5.2), or a page that it sends people to.
func refusedWith(r fact.Reply, list []challenge) (code, text string) {
	if r.Status >= 300 && r.Status < 400 {
		where, _, _ := strings.Cut(r.Location, "?")
		for part := range strings.SplitSeq(strings.ToLower(where), "/") {
			if code := moreWords[strings.SplitN(part, ".", 2)[0]]; code != "" {
				return code, "it sends to " + foreign.CleanTo(where, mostText)
			}
		}
	}
	if r.Status < 400 {
		return "", ""
	}
	for _, c := range list {
		if c.params["error"] != "" {
			return foreign.Clean(c.params["error"]), foreign.CleanTo(c.params["error_description"], mostText)
		}
	}
	var body struct {
		Error string `json:"error"`
		Text  string `json:"error_description"`
	}
	if start := strings.IndexByte(r.Text, '{'); start >= 0 {
		// A body that was cut off, or is another one, says nothing.
		if json.NewDecoder(strings.NewReader(r.Text[start:])).Decode(&body) != nil {
			return "", ""
		}
	}
	if !oauthErrors[body.Error] {
		return "", ""
	}
	return body.Error, foreign.CleanTo(body.Text, mostText)
}

// mostText bounds what is kept of a refusal's words, in characters.
const mostText = 200

// oauthErrors is the registered errors that say something of the account (RFC
// 6749, RFC 9470, and the core of its profile for signing in).
var oauthErrors = map[string]bool{
	"insufficient_user_authentication": true, "interaction_required": true, "login_required": true,
	"consent_required": true,
	"access_denied":    true, "invalid_token": true, "insufficient_scope": true, "account_selection_required": true,
}

// getAs asks for a page, with an authorization if there is one, and reads the
// head of the answer.
func (c *Conn) getAs(host, path, authorization string) (fact.Reply, map[string][]string, error) {
	var r fact.Reply
	reader := c.bound()
	if authorization != "" {
		authorization = "Authorization: " + authorization + "\r\n"
	}
	if _, err := fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: %s\r\nUser-Agent: uakari\r\n%sConnection: close\r\n\r\n",
		path, host, authorization); err != nil {
		return r, nil, err
	}
	header, err := c.httpHead(&r)
	if err != nil {
		return r, nil, reader.why(err)
	}
	r.Location = foreign.Clean(textproto.MIMEHeader(header).Get("Location"))
	if r.Status >= 400 {
		if c.r.Buffered() == 0 {
			c.SetReadDeadline(time.Now().Add(bodyWait))
			c.r.Peek(1) // what is not there in time says nothing
		}
		r.Text = foreign.CleanTo(string(c.unread()), mostBody)
	}
	return r, header, nil
}
