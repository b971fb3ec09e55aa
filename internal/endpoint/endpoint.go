// Package endpoint reads what an administrator typed as the thing to reach:
// a URL, host:port, or a bare host.
//
// Nothing is corrected silently. Characters that cannot be seen, or that look
// like others, stay in the host exactly as typed and are listed beside the
// cleaned form, so that both can be tried.
package endpoint

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/idna"

	"uakari/internal/fact"
	"uakari/internal/protocol"
	"uakari/internal/redact"
	"uakari/internal/yamlfile"
)

// Error says what is wrong with an endpoint, where, and what was expected.
type Error struct {
	Input  string
	Column int // counted in characters from 1; 0: the whole
	Found  string
	Want   string
}

func (e *Error) Error() string {
	where := ""
	if e.Column > 0 {
		where = fmt.Sprintf(", column %d", e.Column)
	}
	return fmt.Sprintf("endpoint %s%s: %s; expected %s", shorten(quote(redact.Query(e.Input))), where, e.Found, e.Want)
}

// quote shows every character that a terminal would not.
func quote(s string) string { return strconv.QuoteToGraphic(s) }

func shorten(s string) string {
	const most = 60
	if utf8.RuneCountInString(s) <= most {
		return s
	}
	return string([]rune(s)[:most-2]) + `…"`
}

const expected = "a URL like https://tidebook.varzea.example/, host:port, or a host"

// Parse reads an endpoint. Errors are of type *[Error].
func Parse(input string) (fact.Endpoint, error) {
	bad := func(column int, found, want string) (fact.Endpoint, error) {
		return fact.Endpoint{}, &Error{input, column, found, want}
	}
	if !utf8.ValidString(input) {
		return bad(0, "not valid UTF-8", expected)
	}
	stray := findStray(input)
	clean := removeStray(input)
	if clean == "" {
		return bad(0, "nothing but blanks", expected)
	}
	if asURL, ok, err := fromForm(clean); err != nil {
		return fact.Endpoint{}, err
	} else if ok {
		return Parse(asURL)
	}
	if at := strings.IndexFunc(clean, isBlank); at >= 0 {
		return bad(column(input, clean, at), "a blank inside", expected)
	}

	name, rest, err := splitScheme(input, clean)
	if err != nil {
		return fact.Endpoint{}, err
	}
	rest, err = fromParameters(input, name, rest)
	if err != nil {
		return fact.Endpoint{}, err
	}
	host, portText, path, err := splitRest(input, rest)
	if err != nil {
		return fact.Endpoint{}, err
	}
	port, err := readPort(input, clean, portText)
	if err != nil {
		return fact.Endpoint{}, err
	}
	scheme, assumed, err := chooseScheme(input, name, port)
	if err != nil {
		return fact.Endpoint{}, err
	}
	if port == 0 {
		port = scheme.Port
	}
	if port == 0 {
		return bad(0, "no port", "a port after the host, as in "+scheme.Name+"://"+host+":4000")
	}
	host, err = readHost(input, host)
	if err != nil {
		return fact.Endpoint{}, err
	}
	e := fact.Endpoint{
		Input: input, Scheme: scheme.Name, Assumed: assumed, Host: host, Port: port,
		Transport: scheme.Transport(), Security: scheme.Security, Verify: scheme.Verify, Path: path,
		Insist: scheme.Verify && scheme.Security == fact.StartTLS,
	}
	if shown := redact.Query(path); shown != path {
		e.Input, e.Path, e.Whole = redact.Query(input), shown, path
	}
	if err := applyParameters(&e, scheme); err != nil {
		return fact.Endpoint{}, err
	}
	if len(stray) > 0 {
		e.Stray, e.Clean, e.Host = stray, host, rawHost(input, clean, host)
	}
	return e, nil
}

// column is the place in the input, in characters, of a byte offset into the
// cleaned text.
func column(input, clean string, offset int) int {
	want := utf8.RuneCountInString(clean[:offset])
	seen, at := 0, 0
	for _, r := range strings.TrimLeftFunc(input, isBlank) {
		if _, odd := strayName(r); odd {
			at++
			continue
		}
		if seen == want {
			break
		}
		seen++
		at++
	}
	lead := utf8.RuneCountInString(input) - utf8.RuneCountInString(strings.TrimLeftFunc(input, isBlank))
	return lead + at + 1
}

// splitScheme takes the scheme off, if there is one.
func splitScheme(input, clean string) (name, rest string, err error) {
	if before, after, ok := strings.Cut(clean, "://"); ok {
		return strings.ToLower(before), after, nil
	}
	if at := strings.Index(clean, "//"); at >= 0 {
		return "", "", &Error{input, column(input, clean, at), `"//" without a scheme before it`, expected}
	}
	return "", clean, nil
}

// splitRest cuts host, port and path apart. An IPv6 literal stands in
// brackets, or alone without a port.
func splitRest(input, rest string) (host, port, path string, err error) {
	if at := strings.IndexAny(rest, "/?#"); at >= 0 {
		rest, path = rest[:at], rest[at:]
	}
	if at := strings.LastIndex(rest, "@"); at >= 0 {
		return "", "", "", &Error{
			strings.Replace(input, rest[:at], "…", 1),
			0,
			"an account in the address",
			"the account with --user, and no secret on the command line",
		}
	}
	if inside, ok := strings.CutPrefix(rest, "["); ok {
		host, after, ok := strings.Cut(inside, "]")
		if !ok {
			return "", "", "", &Error{input, 0, `"[" without "]"`, "an IPv6 address like [fd20::14]:443"}
		}
		if after != "" && !strings.HasPrefix(after, ":") {
			return "", "", "", &Error{input, 0, quote(after) + ` after "]"`, "a port like :443"}
		}
		if addr, err := netip.ParseAddr(host); err != nil || !addr.Is6() {
			return "", "", "", &Error{
				input,
				0,
				quote(host) + " is no IPv6 address",
				"an IPv6 address like [fd20::14]:443",
			}
		}
		return host, emptyPort(after), path, nil
	}
	if addr, err := netip.ParseAddr(rest); err == nil && addr.Is6() {
		return rest, "", path, nil
	}
	if strings.Count(rest, ":") > 1 {
		return "", "", "", &Error{
			input,
			0,
			quote(rest) + " is neither host:port nor an IPv6 address",
			"one colon before the port, IPv6 addresses in brackets",
		}
	}
	host, port, colon := strings.Cut(rest, ":")
	if colon && port == "" {
		port = "empty"
	}
	if host == "" {
		return "", "", "", &Error{input, 0, "the host is empty", expected}
	}
	return host, port, path, nil
}

func emptyPort(after string) string {
	if after == ":" {
		return "empty"
	}
	return strings.TrimPrefix(after, ":")
}

func readPort(input, clean, text string) (uint16, error) {
	const want = "a port from 1 to 65535"
	switch text {
	case "":
		return 0, nil
	case "empty":
		return 0, &Error{input, 0, "a colon and no port", want}
	}
	n, err := strconv.ParseUint(text, 10, 64)
	if err != nil || n < 1 || n > 65535 || text[0] == '+' {
		at := strings.LastIndex(clean, ":"+text)
		return 0, &Error{
			input,
			column(input, clean, at+1),
			"port " + quote(text) + " is out of range or no number",
			want,
		}
	}
	return uint16(n), nil
}

func chooseScheme(input, name string, port uint16) (protocol.Scheme, bool, error) {
	if name == "" && port == 0 {
		usual, _ := protocol.Lookup(protocol.WebScheme(fact.TLS))
		return usual, true, nil
	}
	if name == "" {
		return protocol.ByPort(port), true, nil
	}
	s, ok := protocol.Lookup(name)
	if !ok {
		return s, false, &Error{input, 1, "unknown scheme " + quote(name), "one of " + known(name)}
	}
	return s, false, nil
}

// known is the schemes that a word may be meant for: those that are written
// like it, and the most frequent.
func known(word string) string {
	const most = 8
	names := []string{}
	for _, s := range protocol.Schemes {
		if yamlfile.Distance(word, s.Name) <= max(1, len(s.Name)/3) {
			names = append(names, s.Name)
		}
	}
	names = names[:min(len(names), most/2)]
	for _, s := range protocol.Schemes {
		if len(names) < most && !slices.Contains(names, s.Name) {
			names = append(names, s.Name)
		}
	}
	return fmt.Sprintf(
		"%s and %d more, or tcp, tls or udp for what has none",
		strings.Join(names, ", "),
		len(protocol.Schemes)-len(names)-3,
	)
}

// Longest name and label that DNS can carry (RFC 1035 section 2.3.4).
const (
	mostName  = 253
	mostLabel = 63
)

// readHost checks a host's length and turns an internationalised name into
// its ASCII form (RFC 5891). Characters that a host name must not have, such
// as underscores, are let through: they are for weighing.
func readHost(input, host string) (string, error) {
	if addr, err := netip.ParseAddr(host); err == nil {
		if addr.Is4In6() {
			return addr.Unmap().String(), nil
		}
		if strings.ContainsFunc(
			addr.Zone(),
			func(r rune) bool { return strings.ContainsRune("[]%/?#@:", r) || !unicode.IsGraphic(r) },
		) {
			return "", &Error{input, 0, "zone " + quote(addr.Zone()), "the name of a link, as in fe80::1%eth0"}
		}
		return addr.String(), nil
	}
	if ascii, err := idna.Lookup.ToASCII(host); err == nil {
		host = ascii
	} else if !isASCII(host) {
		return "", &Error{input, 0, "the host name has characters that no host name can have",
			"letters, digits and hyphens, or an internationalised name"}
	}
	host = strings.ToLower(host)
	plain := strings.TrimSuffix(host, ".")
	if len(plain) > mostName {
		return "", &Error{
			input,
			0,
			fmt.Sprintf("the host name is %d characters long", len(plain)),
			fmt.Sprintf("at most %d", mostName),
		}
	}
	for label := range strings.SplitSeq(plain, ".") {
		if label == "" {
			return "", &Error{
				input,
				0,
				"the host name has an empty part",
				"parts of 1 to 63 characters between the dots",
			}
		}
		if len(label) > mostLabel {
			return "", &Error{
				input,
				0,
				fmt.Sprintf("a part of the host name is %d characters long", len(label)),
				fmt.Sprintf("at most %d between two dots", mostLabel),
			}
		}
	}
	if at := strings.IndexFunc(plain, func(r rune) bool {
		return r < ' ' ||
			strings.ContainsRune(`"'<>\^{|}%,;!$&()*+=`+"`", r)
	}); at >= 0 {
		return "", &Error{input, 0, quote(string(plain[at])) + " in the host name",
			"letters, digits, hyphens and dots"}
	}
	return host, nil
}

// Unicode is an internationalised name as people write it, from its form in
// DNS (RFC 5890 section 2.3.2.1); "" for a name that has one form alone.
func Unicode(host string) string {
	if !isASCII(host) || !strings.Contains(strings.ToLower(host), "xn--") {
		return ""
	}
	name, err := idna.Display.ToUnicode(host)
	if err != nil || name == host {
		return ""
	}
	return name
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// Literal reports whether the host of an endpoint is an address, and which.
func Literal(host string) (netip.Addr, bool) {
	addr, err := netip.ParseAddr(host)
	return addr, err == nil
}

// HostPort writes host and port as one, with brackets where needed.
func HostPort(host string, port uint16) string {
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	return host + ":" + strconv.Itoa(int(port))
}
