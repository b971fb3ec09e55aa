// Package redact decides what may be kept of what a host's files, command lines
// and logs hold: a record is handed on, and must not hold a secret. What is not
// known to be harmless is replaced by "…".
//
// A positive list can be too strict, and then a record says less. A list of
// what is secret is never whole: it is only the first of two sieves here.
//
// It is pure: no input or output, no clock.
package redact

import (
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"
)

// Hidden stands in place of what is not kept.
const Hidden = "…"

// secretWords are words of names whose values are never kept.
var secretWords = words(
	`password passwd passwort pass passphrase passcode pw pwd psw secret secrets token tokens key keys apikey private
	privkey
	signing auth authorization authtoken bearer cred creds credential credentials cookie cookies session sessionid sid
	jwt sig signature
	salt seed pin otp totp psk community crypt cipherkey masterauth requirepass`,
)

// secretEnds are ends of words that say the same: "pgpw", "dbpass".
var secretEnds = []string{"pw", "pwd", "pass", "passwd", "password", "secret", "token", "apikey"}

// aboutIt are last words of names that are about a secret and not it: where it
// is kept, or how long it is.
var aboutIt = words(
	`file files path dir directory folder store keystore truststore location name alias id type size length bits ` +
		`algorithm usage mode method methods format provider enabled required ttl timeout expiry attrs attributes`,
)

// harmlessNames are last words of names whose values are names themselves.
var harmlessNames = words(
	`host hostname server servers address addr addresses ip port ports url uri endpoint name names alias aliases
	database db dbname schema table
	path file dir directory folder root base dn basedn bind listen binding interface device domain realm zone region
	site station location
	user username account owner group role client service unit program application app instance node cluster
	proxy gateway backend upstream origin target source destination peer relay smarthost
	timeout interval period delay retry retries attempts limit max min size count pool workers threads backlog queue
	topic exchange vhost share bucket index channel stream
	mode level type kind format protocol scheme version ssl tls security enabled disabled enable verify insecure
	cert certificate ca cafile truststore keystore log logfile loglevel facility language lang locale charset encoding
	timezone tz compression prefix suffix`,
)

func words(text string) map[string]bool {
	set := map[string]bool{}
	for word := range strings.FieldsSeq(text) {
		set[word] = true
	}
	return set
}

// wordsOf is the words of a name, in lower case: "tls.keyFile" is tls, key, file.
func wordsOf(name string) []string {
	var list []string
	var word strings.Builder
	end := func() {
		if word.Len() > 0 {
			list = append(list, strings.ToLower(word.String()))
			word.Reset()
		}
	}
	before := ' '
	for _, r := range name {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			end()
		case unicode.IsUpper(r) && unicode.IsLower(before):
			end()
			word.WriteRune(r)
		default:
			word.WriteRune(r)
		}
		before = r
	}
	end()
	return list
}

// Secretive reports whether a name is that of a secret.
func Secretive(name string) bool {
	list := wordsOf(name)
	if len(list) == 0 {
		return false
	}
	if len(list) > 1 && aboutIt[list[len(list)-1]] {
		return false
	}
	joined := strings.Join(list, "")
	for _, word := range append(list, joined) {
		if secretWords[word] ||
			slices.ContainsFunc(secretEnds, func(end string) bool { return strings.HasSuffix(word, end) }) {
			return true
		}
	}
	return false
}

// harmless reports whether the values of a name are known to be no secrets.
func harmless(name string) bool {
	list := wordsOf(name)
	return len(list) > 0 && harmlessNames[list[len(list)-1]] && !Secretive(name)
}

// simple reports whether a value has ordinary characters only, that a name or a path
// may have, and not too many. The number is counted beside the expression, which would
// be as long as it otherwise.
func simple(value string) bool {
	const most = 250
	return utf8.RuneCountInString(value) <= most && ordinary().MatchString(value)
}

var ordinary = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[\p{L}\p{N}\p{Cf} ._:/@+,=*%\\\[\]~-]*$`)
})

// Value is what is kept of the value of a setting: all of it, if its name or its
// own shape says that it is harmless, else nothing.
func Value(name, value string) string {
	if Secretive(name) {
		return Hidden
	}
	if kept, ok := typed(value); ok {
		return kept
	}
	if !harmless(name) || !simple(value) || strings.Contains(value, "://") {
		return Hidden
	}
	return value
}

// hostShape is a host name of more than one label.
var hostShape = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`^(\*\.)?[\pL\pN_]([\pL\pN_-]*[\pL\pN_])?(\.[\pL\pN_]([\pL\pN_-]*[\pL\pN_])?)*\.(\pL[\pL\pN-]*)\.?(:\d{1,5})?$`,
	)
})

// switches are values that say no more than how a switch stands.
var switches = words(
	`on off yes no true false enabled disabled none null default any all tcp udp tls ssl plain starttls required
	preferred optional verify prefer require allow disable
	localhost debug info notice warning warn error trace http https tcp4 tcp6`,
)

// typed is a value whose shape alone says what it is: a switch, a port or a
// count, a time, an address or a net, a host name, a path, a URL; lists of
// these too. Of a URL it keeps no account and no parameter that may be secret.
func typed(value string) (string, bool) {
	trimmed := strings.TrimFunc(value, func(r rune) bool { return unicode.IsSpace(r) || unicode.Is(unicode.Cf, r) })
	switch {
	case trimmed == "":
		return value, true
	case isTyped(trimmed):
		return value, true
	case strings.Contains(trimmed, "://") && !strings.ContainsAny(trimmed, " \t"):
		return URL(trimmed)
	}
	parts := strings.FieldsFunc(trimmed, func(r rune) bool { return r == ',' || r == ' ' || r == '\t' })
	if len(parts) > 1 && !slices.ContainsFunc(parts, func(p string) bool { return !isTyped(p) }) {
		return value, true
	}
	return "", false
}

func isTyped(value string) bool {
	const mostDigits = 5 // of a port or a count; more may be a code
	if _, err := strconv.ParseInt(value, 10, 64); err == nil {
		return len(strings.TrimLeft(value, "-")) <= mostDigits
	}
	if _, err := time.ParseDuration(value); err == nil {
		return true
	}
	return switches[strings.ToLower(value)] || isAddress(value) || hostShape().MatchString(value) &&
		len(value) <= 253 ||
		isPath(value)
}

func isAddress(value string) bool {
	if _, err := netip.ParseAddrPort(value); err == nil {
		return true
	}
	if _, err := netip.ParsePrefix(value); err == nil {
		return true
	}
	_, err := netip.ParseAddr(strings.Trim(value, "[]"))
	return err == nil
}

// pathShape is a path from the root, of two parts at least: one word behind a
// slash may be anything.
var pathShape = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(~|[A-Za-z]:)?[/\\][\pL\pN._@+*{}-]+([/\\][\pL\pN._@+*{}-]+)+[/\\]?$`)
})

func isPath(value string) bool { return len(value) <= 250 && pathShape().MatchString(value) }

// URL is what is kept of a URL: not its account, and no value of a parameter
// that may be secret. It reports false for what is none.
func URL(value string) (string, bool) {
	scheme, rest, _ := strings.Cut(value, "://")
	u, err := url.Parse(value)
	switch at := strings.LastIndexByte(rest, '@'); {
	case err == nil && (u.Scheme == "" || u.Host == ""), err != nil && at < 0:
		return "", false
	case err == nil && u.User == nil:
		return Query(value), true
	default:
		// What is before the last "@" may be an account whose secret has any
		// characters.
		if err == nil {
			at = strings.LastIndexByte(rest[:authority(rest)], '@')
		}
		return Query(scheme + "://" + rest[at+1:]), true
	}
}

// authority is how long the part of a URL before its path is.
func authority(rest string) int {
	if at := strings.IndexAny(rest, "/?#"); at >= 0 {
		return at
	}
	return len(rest)
}

// Query is a URL or a path with "…" in place of the values of parameters whose
// names say that they are secret, and of a fragment's.
func Query(path string) string {
	before, query, ok := strings.Cut(path, "?")
	if !ok {
		return path
	}
	query, fragment, marked := strings.Cut(query, "#")
	parts := strings.FieldsFunc(query, func(r rune) bool { return r == '&' || r == ';' })
	for i, part := range parts {
		name, value, valued := strings.Cut(part, "=")
		plainName, err := url.QueryUnescape(name)
		if valued && value != "" && (err != nil || Secretive(plainName) || strings.EqualFold(plainName, "code")) {
			parts[i] = name + "=" + Hidden
		}
	}
	path = before + "?" + strings.Join(parts, "&")
	if marked {
		path += "#" + fragment
	}
	return path
}
