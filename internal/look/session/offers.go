package session

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/library"
	"uakari/internal/protocol"
	"uakari/internal/wire"
)

// helloVersions is the versions that are offered, one a connection (RFC 8446
// section 4.1.2, RFC 6101 for the oldest).
var helloVersions = []struct {
	code uint16
	name string
}{{0x0304, "TLS 1.3"}, {0x0303, "TLS 1.2"}, {0x0302, "TLS 1.1"}, {0x0301, "TLS 1.0"}, {0x0300, "SSL 3.0"}}

// Library leaves which TLS library the client's programs use here, and how it
// is set.
func Library(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	l, err := libraryOf(env)
	if err != nil {
		emit(env.Failed(order, "TLS library", "could not tell how the library is set", err, "client-tls on a card"))
		return
	}
	saw := "none that is known"
	if l.Name != "" {
		saw = strings.TrimSpace(
			fmt.Sprintf(
				"%s, %s to %s, level %d, %d suites",
				l.Name,
				nameOr(l.Min, "any"),
				nameOr(l.Max, "any"),
				l.Level,
				len(l.Suites),
			),
		)
	}
	f := env.Seen(order, strings.TrimSpace("TLS library "+l.Place), saw)
	f.Library = &l
	emit(f)
}

// libraryOf is the library of the client's program that the card names, or that of most
// programs here.
func libraryOf(env look.Env) (fact.Library, error) {
	program := ""
	if env.Card != nil {
		program = env.Card.ClientProgram
	}
	if program == "" && library.System != nil {
		return library.System()
	}
	return library.Root("").Read(program), nil
}

func nameOr(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// ownSuites is what this host's library offers in a version; nothing if it
// does not speak that version.
func ownSuites(l fact.Library, version string) []uint16 {
	switch {
	case version == "SSL 3.0", l.Min != "" && version < l.Min, l.Max != "" && version > l.Max:
		return nil
	case version == "TLS 1.3" && l.NewSuites == nil:
		return newSuites[:3]
	case version == "TLS 1.3":
		return slices.DeleteFunc(
			slices.Clone(newSuites),
			func(code uint16) bool { return !slices.Contains(l.NewSuites, suiteName(code)) },
		)
	case l.Suites == nil:
		return library.Ordinary()
	}
	return l.Suites
}

// Offers leaves what a TLS server takes: of what the library of this host's
// programs would offer, in one hello as that would send it, and of everything
// that is in use, a hello for each version. Our own hello is far wider than what
// any library would send, and nothing follows it. Six connections at most, side
// by side.
func Offers(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	source := "what TLS " + endpoint.HostPort(order.Target.Addr.String(), order.Target.Port) + " takes"
	hellos := append(ownHello(env), wideHellos()...)
	hellos = hellos[:env.Probes.Take(order.Target.Port, len(hellos))]
	if len(hellos) == 0 {
		emit(env.Failed(order, source, "did not ask what TLS the server takes", look.ErrSpent, ""))
		return
	}
	offers := fact.Offers{List: make([]fact.Offer, len(hellos))}
	var wg sync.WaitGroup
	for i, h := range hellos {
		wg.Go(func() { offers.List[i] = offer(ctx, env, order, h) })
	}
	wg.Wait()
	slices.SortFunc(offers.List, func(a, b fact.Offer) int {
		if a.Own != b.Own {
			return cmp.Compare(fmt.Sprint(a.Own), fmt.Sprint(b.Own))
		}
		return -cmp.Compare(strings.Replace(a.Version, "SSL", "A", 1), strings.Replace(b.Version, "SSL", "A", 1))
	})
	var taken []string
	for _, o := range offers.List {
		if o.Cipher != "" && !o.Own {
			taken = append(taken, o.Version+" with "+o.Cipher)
		}
	}
	saw := "it takes none of what is offered"
	if len(taken) > 0 {
		saw = "it takes " + strings.Join(taken, ", ")
	}
	f := env.Seen(order, source, saw)
	f.Offers = &offers
	emit(f)
}

// hello is one hello to send: the versions that it offers, the newest first, and
// the suites for all of them.
type hello struct {
	versions []uint16
	names    []string
	suites   []uint16
	own      bool
}

// wideHellos is a hello for each version, with every suite.
func wideHellos() []hello {
	var list []hello
	for _, v := range helloVersions {
		suites := oldSuites()
		if v.code == tls.VersionTLS13 {
			suites = newSuites
		}
		list = append(list, hello{[]uint16{v.code}, []string{v.name}, suites, false})
	}
	return list
}

// ownHello is the hello of this host's library; none if it offers nothing.
func ownHello(env look.Env) []hello {
	l, err := libraryOf(env)
	if err != nil || l.Min == "" && l.Name == "" {
		l.Min = "TLS 1.2"
	}
	h := hello{own: true}
	for _, v := range helloVersions {
		suites := ownSuites(l, v.name)
		if len(suites) == 0 {
			continue
		}
		h.versions, h.names = append(h.versions, v.code), append(h.names, v.name)
		for _, code := range suites {
			if !slices.Contains(h.suites, code) {
				h.suites = append(h.suites, code)
			}
		}
	}
	if len(h.versions) == 0 {
		return nil
	}
	return []hello{h}
}

// offer makes one connection up to the server's word on one hello.
func offer(ctx context.Context, env look.Env, order fact.Order, h hello) fact.Offer {
	o := fact.Offer{Version: h.names[0], Own: h.own}
	scheme, _ := protocol.Lookup(order.Target.Scheme)
	c := &climber{env: env, order: order, scheme: scheme, wire: wire.Protocols[scheme.Wire], emit: func(fact.Fact) {}}
	raw := c.connect(ctx)
	if raw == nil {
		return o
	}
	defer raw.Close()
	raw.SetDeadline(time.Now().Add(look.Within(ctx, env.Patience())))
	stop := context.AfterFunc(ctx, func() { raw.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	c.conn = wire.NewConn(raw)
	if order.Target.Security == fact.StartTLS {
		if !c.greet() || c.wire.Upgrade == nil {
			return o
		}
		if u := c.wire.Upgrade(c.conn); !u.Offered {
			return o
		}
	}
	if _, err := c.conn.Write(wideHello(h.versions, indicated(order.Target.Name), h.suites)); err != nil {
		return o
	}
	cipher, chosen, alert, err := serverWord(c.conn)
	o.Alert = alert
	if at := slices.Index(h.versions, chosen); err == nil && at >= 0 {
		o.Version, o.Cipher = h.names[at], suiteName(cipher)
	}
	return o
}

var errNotTLS = errors.New("not TLS")

// serverWord reads a server's first message: its hello, or an alert.
func serverWord(r io.Reader) (cipher, version uint16, alert int, err error) {
	const handshake, alerts, hello, most = 22, 21, 2, 1 << 14
	head := make([]byte, 5)
	if _, err := io.ReadFull(r, head); err != nil {
		return 0, 0, 0, err
	}
	size := int(binary.BigEndian.Uint16(head[3:]))
	if size < 2 || size > most || head[1] != 3 {
		return 0, 0, 0, errNotTLS
	}
	body := make([]byte, size)
	if _, err := io.ReadFull(r, body); err != nil {
		return 0, 0, 0, err
	}
	if head[0] == alerts {
		return 0, 0, int(body[1]), nil
	}
	// Type, length, version, random, session, suite, compression, extensions.
	const session = 4 + 2 + 32
	if head[0] != handshake || body[0] != hello || len(body) < session+1 {
		return 0, 0, 0, errNotTLS
	}
	version = binary.BigEndian.Uint16(body[4:])
	rest := body[session:]
	if len(rest) < 1+int(rest[0])+3 {
		return 0, 0, 0, errNotTLS
	}
	rest = rest[1+int(rest[0]):]
	cipher = binary.BigEndian.Uint16(rest)
	if rest = rest[3:]; len(rest) > 2 {
		const supportedVersions = 43
		for rest = rest[2:]; len(rest) >= 4; {
			kind, n := binary.BigEndian.Uint16(rest), int(binary.BigEndian.Uint16(rest[2:]))
			if len(rest) < 4+n {
				break
			}
			if kind == supportedVersions && n == 2 {
				version = binary.BigEndian.Uint16(rest[4:])
			}
			rest = rest[4+n:]
		}
	}
	return cipher, version, 0, nil
}

// wideHello is a client's hello that offers some versions, the newest first, and
// some suites. For version 1.3 it brings no key: the server names its choice and
// asks for one (RFC 8446 section 4.1.4).
func wideHello(versions []uint16, name string, suites []uint16) []byte {
	u16 := func(list ...uint16) []byte {
		var b []byte
		for _, v := range list {
			b = binary.BigEndian.AppendUint16(b, v)
		}
		return b
	}
	sized := func(width int, b []byte) []byte {
		head := make([]byte, width)
		for i := range width {
			head[width-1-i] = byte(len(b) >> (8 * i))
		}
		return append(head, b...)
	}
	var extensions []byte
	extend := func(kind uint16, b []byte) { extensions = append(append(extensions, u16(kind)...), sized(2, b)...) }
	if name != "" {
		extend(0, sized(2, append([]byte{0}, sized(2, []byte(name))...)))
	}
	extend(10, sized(2, u16(29, 23, 24, 25, 30, 26, 27, 28, 256, 257, 258)))
	extend(11, []byte{1, 0})
	extend(
		13,
		sized(
			2,
			u16(
				0x0403,
				0x0503,
				0x0603,
				0x0807,
				0x0808,
				0x0804,
				0x0805,
				0x0806,
				0x0809,
				0x080a,
				0x080b,
				0x0401,
				0x0501,
				0x0601,
				0x0301,
				0x0303,
				0x0203,
				0x0201,
				0x0402,
				0x0202,
			),
		),
	)
	legacy := versions[0]
	if legacy == tls.VersionTLS13 {
		legacy = tls.VersionTLS12
		extend(43, sized(1, u16(versions...)))
		extend(51, sized(2, nil))
	}
	random := make([]byte, 64)
	rand.Read(random) // never fails
	hello := append(u16(legacy), random[:32]...)
	hello = append(hello, sized(1, random[32:])...)
	hello = append(hello, sized(2, u16(suites...))...)
	hello = append(hello, 1, 0)
	if versions[0] > 0x0300 {
		hello = append(hello, sized(2, extensions)...)
	}
	record := append([]byte{22}, u16(min(legacy, 0x0301))...)
	return append(record, sized(2, append([]byte{1}, sized(3, hello)...))...)
}

// newSuites is those of TLS 1.3 (RFC 8446 appendix B.4).
var newSuites = []uint16{0x1301, 0x1302, 0x1303, 0x1304, 0x1305}

// suiteRanges is the suites of earlier versions in the IANA registry, as they
// were given out: plain, anonymous and exportable ones, those with Kerberos,
// Camellia, SEED, pre-shared keys, GCM, elliptic curves, ARIA, CCM and ChaCha20.
var suiteRanges = [][2]uint16{
	{0xcca8, 0xccae},
	{0xc001, 0xc0af},
	{0x009c, 0x00c5},
	{0x0067, 0x006d},
	{0x0084, 0x009b},
	{0x002f, 0x0046},
	{0x0001, 0x001b},
}

// oldSuites is all of them, the strongest ranges first.
func oldSuites() []uint16 {
	var list []uint16
	for _, r := range suiteRanges {
		for code := r[0]; code <= r[1]; code++ {
			list = append(list, code)
		}
	}
	return list
}

// suiteNames is suites that the standard library does not name (IANA, "TLS
// Cipher Suites").
var suiteNames = map[uint16]string{
	0x0001: "TLS_RSA_WITH_NULL_MD5", 0x0002: "TLS_RSA_WITH_NULL_SHA", 0x003b: "TLS_RSA_WITH_NULL_SHA256",
	0xc006: "TLS_ECDHE_ECDSA_WITH_NULL_SHA", 0xc010: "TLS_ECDHE_RSA_WITH_NULL_SHA",
	0x0004: "TLS_RSA_WITH_RC4_128_MD5", 0x0009: "TLS_RSA_WITH_DES_CBC_SHA",
	0x0016: "TLS_DHE_RSA_WITH_3DES_EDE_CBC_SHA",
	0x0033: "TLS_DHE_RSA_WITH_AES_128_CBC_SHA", 0x0039: "TLS_DHE_RSA_WITH_AES_256_CBC_SHA",
	0x0067: "TLS_DHE_RSA_WITH_AES_128_CBC_SHA256", 0x006b: "TLS_DHE_RSA_WITH_AES_256_CBC_SHA256",
	0x009e: "TLS_DHE_RSA_WITH_AES_128_GCM_SHA256", 0x009f: "TLS_DHE_RSA_WITH_AES_256_GCM_SHA384",
	0xccaa: "TLS_DHE_RSA_WITH_CHACHA20_POLY1305_SHA256",
	0x0041: "TLS_RSA_WITH_CAMELLIA_128_CBC_SHA", 0x0084: "TLS_RSA_WITH_CAMELLIA_256_CBC_SHA",
	0x003d: "TLS_RSA_WITH_AES_256_CBC_SHA256",
	0xc024: "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA384", 0xc028: "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA384",
	0xc072: "TLS_ECDHE_ECDSA_WITH_CAMELLIA_128_CBC_SHA256",
	0xc073: "TLS_ECDHE_ECDSA_WITH_CAMELLIA_256_CBC_SHA384",
	0xc076: "TLS_ECDHE_RSA_WITH_CAMELLIA_128_CBC_SHA256", 0xc077: "TLS_ECDHE_RSA_WITH_CAMELLIA_256_CBC_SHA384",
	0xc05c: "TLS_ECDHE_ECDSA_WITH_ARIA_128_GCM_SHA256", 0xc05d: "TLS_ECDHE_ECDSA_WITH_ARIA_256_GCM_SHA384",
	0xc060: "TLS_ECDHE_RSA_WITH_ARIA_128_GCM_SHA256", 0xc061: "TLS_ECDHE_RSA_WITH_ARIA_256_GCM_SHA384",
	0xc09c: "TLS_RSA_WITH_AES_128_CCM", 0xc09d: "TLS_RSA_WITH_AES_256_CCM",
	0xc0ac: "TLS_ECDHE_ECDSA_WITH_AES_128_CCM", 0xc0ad: "TLS_ECDHE_ECDSA_WITH_AES_256_CCM",
	0xc0ae: "TLS_ECDHE_ECDSA_WITH_AES_128_CCM_8", 0xc0af: "TLS_ECDHE_ECDSA_WITH_AES_256_CCM_8",
	0x1304: "TLS_AES_128_CCM_SHA256", 0x1305: "TLS_AES_128_CCM_8_SHA256",
}

func suiteName(code uint16) string {
	if name := suiteNames[code]; name != "" {
		return name
	}
	if name := tls.CipherSuiteName(code); !strings.HasPrefix(name, "0x") {
		return name
	}
	return fmt.Sprintf("suite 0x%04x", code)
}
