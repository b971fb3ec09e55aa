package redact

import (
	_ "embed"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// Of a line of a log only what a positive list knows is kept: words that servers use in
// their messages, times, numbers, codes, addresses, host names, paths, names where a name
// stands ("database tide"), and accounts that were asked about: in the place of an account
// people type passwords. Everything else is replaced by "…" and its length.

// vocabulary is the words of messages, in lower case and in order, one a line: those of the
// English language that stand in the messages of servers, and the trade's own.
//
//go:embed vocabulary.txt
var vocabulary string

// sieve keeps what the vocabulary knows, and more words that somebody said are harmless.
type sieve struct{ more map[string]bool }

// Vocabulary is the words, in lower case, of patterns that look for lines of a log: who wrote
// them says that these are no secrets.
func Vocabulary(patterns ...string) map[string]bool {
	more := map[string]bool{}
	for _, pattern := range patterns {
		if !strings.ContainsFunc(pattern, unicode.IsSpace) {
			more[strings.ToLower(pattern)] = true // an account, whatever it is made of
		}
		for word := range strings.FieldsFuncSeq(escaped().ReplaceAllString(pattern, " "),
			func(r rune) bool { return !unicode.IsLetter(r) }) {
			more[strings.ToLower(word)] = true
		}
	}
	return more
}

// escaped is the classes of an expression, which are no words of it.
var escaped = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\\[A-Za-z]`) })

// spoken reports whether a word, in lower case, stands in the vocabulary. Words of up to
// three letters are not looked up: they hold no secret.
func (s sieve) spoken(word string) bool {
	const short = 3
	if len(word) <= short || s.more[word] {
		return true
	}
	low, high := 0, len(vocabulary)
	for low < high {
		begin := strings.LastIndexByte(vocabulary[:(low+high)/2], '\n') + 1
		end := begin + strings.IndexByte(vocabulary[begin:], '\n')
		switch at := vocabulary[begin:end]; {
		case at == word:
			return true
		case at < word:
			low = end + 1
		default:
			high = begin
		}
	}
	return false
}

// inflected is spoken, also where only the word without its ending stands there.
func (s sieve) inflected(word string) bool {
	if s.spoken(word) {
		return true
	}
	for _, end := range []string{"s", "es", "ed", "d", "ing", "ly", "er", "ion"} {
		stem, ok := strings.CutSuffix(word, end)
		if ok && len(stem) > 3 && (s.spoken(stem) || s.spoken(stem+"e")) {
			return true
		}
	}
	return false
}

var (
	// stamp is a date, a time, a version: digits with what stands between them.
	stamp = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^[vT]?\d[\d:.,/TZ+-]{0,34}$`)
	})
	// codeShape is a number in hexadecimal, a state of SQL (ISO 9075), or the number of a message.
	codeShape = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^(?:0[xX][0-9a-fA-F]{1,10}|[0-9A-F]{5}|[A-Z]{1,4}-?\d{3,6}[A-Z]?)$`)
	})
	// unitShape is a number with a unit behind it, or a word of a protocol with one.
	unitShape = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^\d{1,9}(?:[a-zA-Z]{1,3}|th|nd|st)$`)
	})
	// nameShape is how programs, databases and machines are named: words in small letters
	// with numbers behind them.
	nameShape = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^[A-Za-z_]?[a-z]*[0-9]{0,6}(?:[._-]+[a-z]*[0-9]{0,6})*\$?$`)
	})
	// lonelyPath is a path of one part.
	lonelyPath = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^/(?:[a-z][a-z._-]*/?)?$`) })
	// coded are names of ciphers, digests and versions that end in a longer number.
	coded = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(
			`^(?i:sha|aes|rsa|rfc|utf|ed|p|secp|camellia|chacha|poly|hmacsha|curve|x|cp|iso|ora|err|mech|krb|tls|pid|fd)` +
				`\d{1,5}(?:r1)?$`,
		)
	})
)

// between reports whether a rune stands between the words of a line.
func between(r rune) bool {
	return unicode.IsSpace(r) || strings.ContainsRune("\"'`()[]{}<>,;|="+Hidden, r) ||
		r > unicode.MaxASCII && !unicode.IsLetter(r) && !unicode.IsNumber(r)
}

// accountFollows are words behind which an account stands: as somebody typed it.
var accountFollows = words(`for user users account accounts role by principal uid cn ruser acct login logname username`)

// nameFollows are words behind which another name stands.
var nameFollows = words(`from on at in dn ou dc o service host hostname
	client database db table schema server unit process program module plugin container image pod backend upstream pool
	zone domain realm site vhost group scope rhost tty exe comm name named queue topic exchange
	cell cgroup task slice instance node replica peer listener frontend proxy worker job device interface index channel
	of with to path uri file invalid lookup dial profile directive option variable parameter keyword setting field section`)

// positive keeps of a line what the positive list knows.
func (s sieve) positive(line string) string {
	var out strings.Builder
	next, first := noName, true
	for len(line) > 0 {
		at := strings.IndexFunc(line, between)
		if at < 0 {
			at = len(line)
		}
		token, rest := line[:at], line[at:]
		if token != "" {
			begins := first && (strings.HasSuffix(token, ":") || strings.HasPrefix(rest, "["))
			begins = begins || (rest != "" && (rest[0] == '=' || strings.HasPrefix(rest, `":`))) // a name of a value
			if begins && next == noName {
				next = name
			}
			out.WriteString(s.keptToken(token, next))
			last := strings.ToLower(lastWord(token))
			switch {
			case accountFollows[last]:
				next = account
			case nameFollows[last]:
				next = name
			case token == "@": // 'gauge'@'pier'
				next = name
			case !chained(rest):
				next = noName
			}
			if !stamp().MatchString(token) {
				first = false
			}
		}
		if rest == "" {
			break
		}
		_, size := utf8.DecodeRuneInString(rest)
		out.WriteString(rest[:size])
		line = rest[size:]
	}
	return out.String()
}

// stands is what stands in a place of a line.
type stands int

const (
	noName  stands = iota
	name           // of a database, a unit, a file: kept by its form
	account        // kept if it was asked about
)

// chained reports whether names go on behind one: "gauge,ou=people".
func chained(rest string) bool {
	return strings.HasPrefix(rest, ",") || strings.HasPrefix(rest, "=")
}

// lastWord is the last run of letters of a token.
func lastWord(token string) string {
	token = strings.TrimRight(token, ":.")
	if at := strings.LastIndexFunc(token, func(r rune) bool { return !unicode.IsLetter(r) }); at >= 0 {
		return token[at+1:]
	}
	return token
}

// keptToken is a token, or what stands in its place.
func (s sieve) keptToken(token string, place stands) string {
	bare := strings.Trim(token, ".:!?*#-_~%")
	const short = 3 // runes that hold no secret
	switch {
	case utf8.RuneCountInString(bare) <= short, s.knownToken(bare, place):
		return token
	case strings.Contains(bare, "://"):
		return strings.Replace(token, bare, s.keptURL(bare), 1)
	case isPath(bare):
		return strings.Replace(token, bare, s.keptPath(bare), 1)
	}
	return strings.Replace(token, bare, Hidden+strconv.Itoa(len([]rune(bare))), 1)
}

// knownToken reports whether a token is one of those that are kept.
func (s sieve) knownToken(token string, place stands) bool {
	const mostNumber = 13 // digits; more may be the number of a card
	switch {
	case strings.Trim(token, "0123456789") == "":
		return len(token) <= mostNumber
	case stamp().MatchString(token), codeShape().MatchString(token), unitShape().MatchString(token),
		lonelyPath().MatchString(token), isAddress(token):
		return true
	case isPath(token):
		return false // part by part
	case hostShape().MatchString(token) && !mixed(token), isTyped(token):
		return true
	case fingerprint().MatchString(token):
		return true
	case place == name && s.aName(token), place == account && s.anAccount(token):
		return true
	}
	return s.spokenParts(token)
}

// fingerprint is the print of a key (RFC 4648 without padding), which is no secret.
var fingerprint = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^SHA256:[A-Za-z0-9+/]{43}$`) })

// aName is a name by its form, also one with its realm, domain or host.
func (s sieve) aName(token string) bool {
	for part := range strings.FieldsFuncSeq(token, func(r rune) bool { return strings.ContainsRune(`@\/:`, r) }) {
		if !nameShape().MatchString(part) && !s.spokenParts(part) && !hostShape().MatchString(part) &&
			strings.ToUpper(part) != part {
			return false
		}
	}
	return true
}

// anAccount is an account that was asked about, also with its realm, domain or host.
func (s sieve) anAccount(token string) bool {
	domain, account, windows := strings.Cut(token, `\`)
	if !windows {
		var ok bool
		if account, domain, ok = strings.Cut(token, "@"); !ok {
			return false // spokenParts knows it
		}
	}
	return s.spokenParts(account) && s.aName(domain)
}

// spokenParts reports whether each part of a token is a word of the vocabulary or a number.
func (s sieve) spokenParts(token string) bool {
	if s.more[strings.ToLower(token)] {
		return true
	}
	apart := func(r rune) bool { return strings.ContainsRune(`-_/.:@#+\*`, r) }
	for part := range strings.FieldsFuncSeq(token, apart) {
		if len(part) <= 2 || s.spokenPart(part) {
			continue
		}
		return false
	}
	return !strings.ContainsAny(token, "!$%^&?~")
}

// spokenPart reports whether a part is a number, a word, words written together with
// capitals, or a word with a short number behind it.
func (s sieve) spokenPart(part string) bool {
	const mostNumber, mostBehind = 9, 2
	stem := strings.TrimRight(part, "0123456789")
	if digits := len(part) - len(stem); stem == "" {
		return digits <= mostNumber
	} else if coded().MatchString(part) {
		return true
	} else if digits > mostBehind {
		return false
	}
	letter := func(r rune) bool { return unicode.IsLetter(r) }
	if strings.TrimFunc(stem, letter) != "" {
		return coded().MatchString(stem) || unitShape().MatchString(part) || stampWord().MatchString(part)
	}
	if s.inflected(strings.ToLower(stem)) {
		return true
	}
	humps := wordsOf(stem)
	for _, hump := range humps {
		if !s.inflected(hump) {
			return false
		}
	}
	return len(humps) > 1
}

// stampWord is a time with its zone, as within a longer token.
var stampWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^\d{1,4}[TZ]?\d{0,6}Z?$`) })

// mixed reports whether capitals, small letters and digits stand mingled in a name.
func mixed(name string) bool {
	return strings.ContainsAny(name, "0123456789") && strings.ToLower(name) != name && strings.ToUpper(name) != name &&
		!numbered().MatchString(name)
}

// keptURL is a URL whose account is gone (Said): its scheme, its host and its path. Of a
// question the name of the first value is left before the "=" at which a token ends.
func (s sieve) keptURL(text string) string {
	scheme, rest, _ := strings.Cut(text, "://")
	rest, asked, has := strings.Cut(rest, "?")
	host, path, _ := strings.Cut(rest, "/")
	if !s.knownToken(host, name) {
		host = Hidden + strconv.Itoa(len(host))
	}
	text = scheme + "://" + host
	if strings.Contains(rest, "/") {
		text += s.keptPath("/" + path)
	}
	if has && nameShape().MatchString(asked) {
		text += "?" + asked
	} else if has {
		text += "?" + Hidden + strconv.Itoa(len(asked))
	}
	return text
}

// keptPath is a path with "…" in place of parts that may be a code somebody was sent.
func (s sieve) keptPath(path string) string {
	parts := strings.FieldsFunc(path, func(r rune) bool { return r == '/' || r == '\\' })
	for _, part := range parts {
		if len(part) >= mixedPart && mixed(part) && !s.spokenParts(part) {
			path = strings.Replace(path, part, Hidden+strconv.Itoa(len(part)), 1)
		}
	}
	return path
}
