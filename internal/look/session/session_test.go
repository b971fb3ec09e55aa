package session

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// serve runs a server that handles each connection with a function.
func serve(t *testing.T, handle func(net.Conn)) netip.AddrPort {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				handle(c)
			}()
		}
	}()
	return netip.MustParseAddrPort(l.Addr().String())
}

// climb takes one look and returns its facts by step.
func climb(
	t *testing.T,
	at netip.AddrPort,
	scheme string,
	security fact.Security,
	limit time.Duration,
) map[string]fact.Fact {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	steps := map[string]fact.Fact{}
	order := fact.Order{
		Look: fact.LookSession,
		Target: fact.Target{
			Name:     "tidebook.varzea.example",
			Addr:     at.Addr(),
			Port:     at.Port(),
			Scheme:   scheme,
			Security: security,
		},
	}
	began := time.Now()
	Look(ctx, look.Env{Wait: time.Second, Trust: rootsFile(t)}, order, func(f fact.Fact) {
		switch {
		case f.Connect != nil:
			steps["connect"] = f
		case f.Greeting != nil:
			steps["greeting"] = f
		case f.Upgrade != nil:
			steps["upgrade"] = f
		case f.Handshake != nil:
			steps["handshake"] = f
		case f.Trust != nil:
			steps["trust"] = f
		case f.Reply != nil:
			steps["reply"] = f
		}
		if strings.ContainsAny(f.Saw, "\x00\x1b\r\n") || len(f.Saw) > 1000 {
			t.Errorf("a fact that a terminal must not see: %q", f.Saw)
		}
	})
	if took := time.Since(began); took > limit+time.Second {
		t.Errorf("took %s, the deadline was %s", took, limit)
	}
	return steps
}

var certificate = func() tls.Certificate {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	c := &x509.Certificate{
		SerialNumber: big.NewInt(1),
		DNSNames:     []string{"tidebook.varzea.example"},
		NotAfter:     time.Now().Add(time.Hour),
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		panic(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}()

func rootsFile(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "roots.pem")
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate.Certificate[0]})
	if err := os.WriteFile(path, text, 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func overTLS(config *tls.Config, handle func(net.Conn)) func(net.Conn) {
	config.Certificates = []tls.Certificate{certificate}
	return func(c net.Conn) {
		s := tls.Server(c, config)
		if s.Handshake() == nil {
			handle(s)
		}
	}
}

func says(text string) func(net.Conn) {
	return func(c net.Conn) {
		io.WriteString(c, text)
		io.Copy(io.Discard, c)
	}
}

// afterQuestion reads something and then says something.
func afterQuestion(text string) func(net.Conn) {
	return func(c net.Conn) {
		c.Read(make([]byte, 4096))
		io.WriteString(c, text)
	}
}

const page = "HTTP/1.1 200 OK\r\nServer: tidebook\r\nDate: Mon, 23 Nov 2026 03:00:00 GMT\r\nContent-Length: " +
	"2\r\n\r\nok"

func TestHealthy(t *testing.T) {
	steps := climb(t, serve(t, overTLS(&tls.Config{}, afterQuestion(page))), "https", fact.TLS, 5*time.Second)
	h, r := steps["handshake"].Handshake, steps["reply"].Reply
	if h == nil || h.Ending != fact.Done || h.Version != "TLS 1.3" || len(h.Chain) != 1 ||
		h.ServerName != "tidebook.varzea.example" {
		t.Errorf("handshake %+v", h)
	}
	if trust := steps["trust"].Trust; trust == nil || trust.Count != 1 || len(trust.Roots) != 1 {
		t.Errorf("trust %+v", trust)
	}
	if r == nil || r.Ending != fact.Done || r.Status != 200 || r.Program != "tidebook" || r.Date.IsZero() {
		t.Errorf("reply %+v", r)
	}
}

// TestEndings is servers of every ill manner: each ends in time, as what it is.
func TestEndings(t *testing.T) {
	hang := func(c net.Conn) { io.Copy(io.Discard, c) }
	slam := func(c net.Conn) { c.(*net.TCPConn).SetLinger(0) }
	for _, c := range []struct {
		name     string
		scheme   string
		security fact.Security
		handle   func(net.Conn)
		step     string
		want     string // ending, and what it spoke
	}{
		{"a page", "http", fact.Plain, afterQuestion(page), "reply", "done "},
		{"nothing, for ever", "http", fact.Plain, hang, "reply", "stalled "},
		{"closed without an answer", "http", fact.Plain, func(c net.Conn) { c.Read(make([]byte, 4096)) }, "reply",
			"closed "},
		{"reset at once", "http", fact.Plain, func(c net.Conn) { c.Read(make([]byte, 9)); slam(c) }, "reply",
			"reset "},
		{"endless header", "http", fact.Plain, func(c net.Conn) {
			io.WriteString(c, "HTTP/1.1 200 OK\r\n")
			for {
				if _, err := io.WriteString(c, "X: "+strings.Repeat("y", 4000)+"\r\n"); err != nil {
					return
				}
			}
		}, "reply", "malformed "},
		{"endless bytes", "http", fact.Plain, func(c net.Conn) {
			for {
				if _, err := c.Write(make([]byte, 4096)); err != nil {
					return
				}
			}
		}, "reply", "malformed "},
		{"a byte at a time", "http", fact.Plain, func(c net.Conn) {
			for _, b := range []byte(page) {
				if _, err := c.Write([]byte{b}); err != nil {
					return
				}
				time.Sleep(100 * time.Millisecond)
			}
		}, "reply", "stalled "},
		{"control characters", "http", fact.Plain, afterQuestion("\x1b[2J\x00\x07rubbish\r\n\r\n"), "reply",
			"malformed "},
		{"SSH where HTTP should be", "http", fact.Plain, says("SSH-2.0-OpenSSH_9.2\r\n"), "reply", "malformed ssh"},
		{"TLS where plain should be", "http", fact.Plain, afterQuestion("\x15\x03\x01\x00\x02\x02\x46"), "reply",
			"malformed tls"},
		{"plain where TLS should be", "https", fact.TLS, afterQuestion("HTTP/1.1 400 Bad Request\r\n\r\n"),
			"handshake", "malformed http"},
		{"SSH where TLS should be", "https", fact.TLS, says("SSH-2.0-OpenSSH_9.2\r\n"), "handshake", "malformed ssh"},
		{"TLS that never comes", "https", fact.TLS, hang, "handshake", "stalled "},
		{"TLS that closes", "https", fact.TLS, func(c net.Conn) { c.Read(make([]byte, 4096)) }, "handshake",
			"closed "},
		{"an SSH greeting", "ssh", fact.Plain, says("SSH-2.0-OpenSSH_9.2\r\n"), "greeting", "done ssh"},
		{"an SSH greeting behind a banner", "ssh", fact.Plain, says("Welcome\r\nto pier\r\nSSH-2.0-OpenSSH_9.2\r\n"),
			"greeting", "done ssh"},
		{"a greeting that never ends", "ssh", fact.Plain, says("SSH-" + strings.Repeat("x", 100000)), "greeting",
			"malformed ssh"},
		{"HTTP where SSH should be", "ssh", fact.Plain, says("HTTP/1.1 400 Bad Request\r\n\r\n"), "greeting",
			"malformed http"},
		{"no greeting", "ssh", fact.Plain, hang, "greeting", "stalled "},
		{"closed before a greeting", "ssh", fact.Plain, func(net.Conn) {}, "greeting", "closed "},
		{"mail that refuses", "smtp", fact.StartTLS, says("554 no service\r\n"), "greeting", "done smtp"},
		{"a database's greeting", "mysql", fact.Plain, says("\x46\x00\x00\x00\x0a10.11.6\x00" + "\x01\x00\x00\x00" +
			"12345678" + "\x00" + "\xff\xf7" + "\x2d" + "\x02\x00" + "\xff\x81" + "\x15" + strings.Repeat("\x00", 10) +
			"123456789012\x00mysql_native_pass"), "greeting", "done mysql"},
		{"a database's greeting that is cut short", "mysql", fact.Plain, says("\x0a\x00\x00\x00\x0a10.11.6\x00\x01"),
			"greeting", "malformed mysql"},
		{"a database that refuses", "mysql", fact.Plain, says("\x14\x00\x00\x00\xff\x6a\x04Host not allowed\x00"),
			"greeting", "done mysql"},
		{"a database that is none", "mysql", fact.Plain, says("SSH-2.0-OpenSSH_9.2\r\n"), "greeting", "malformed ssh"},
		{"a store", "redis", fact.Plain, afterQuestion("+PONG\r\n"), "reply", "done "},
		{"a store that protects itself", "redis", fact.Plain,
			afterQuestion("-DENIED Redis is running in protected mode\r\n"), "reply", "done "},
		{"a store that is none", "redis", fact.Plain, afterQuestion("HTTP/1.1 400 Bad Request\r\n\r\n"), "reply",
			"malformed http"},
		{"a directory that is none", "ldap", fact.Plain, afterQuestion("HTTP/1.1 400 Bad Request\r\n\r\n"), "reply",
			"malformed http"},
		{"a directory that lies about lengths", "ldap", fact.Plain, afterQuestion("\x30\x84\xff\xff\xff\xff"), "reply",
			"malformed "},
		{"a bare connection", "tcp", fact.Plain, hang, "greeting", "done "},
		{"a bare connection that is closed", "tcp", fact.Plain, func(net.Conn) {}, "greeting", "closed "},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			f, ok := climb(t, serve(t, c.handle), c.scheme, c.security, 1500*time.Millisecond)[c.step]
			if !ok {
				t.Fatalf("no %s", c.step)
			}
			got := ""
			switch {
			case f.Reply != nil:
				got = fmt.Sprintf("%s %s", f.Reply.Ending, f.Reply.Spoke)
			case f.Greeting != nil:
				got = fmt.Sprintf("%s %s", f.Greeting.Ending, f.Greeting.Protocol)
			case f.Handshake != nil:
				got = fmt.Sprintf("%s %s", f.Handshake.Ending, f.Handshake.Spoke)
			}
			if got != c.want {
				t.Errorf("got %q, want %q (saw %s)", got, c.want, f.Saw)
			}
		})
	}
}

// TestDatagrams is servers that are asked over UDP.
func TestDatagrams(t *testing.T) {
	dns := func(says string) func(net.PacketConn, net.Addr, []byte) {
		return func(c net.PacketConn, to net.Addr, asked []byte) {
			answer := append(asked[:2:2], says...)
			if len(says) > 2 { // with the question
				answer = append(answer, asked[12:]...)
			}
			c.WriteTo(answer, to)
		}
	}
	clock := func(head string) func(net.PacketConn, net.Addr, []byte) {
		return func(c net.PacketConn, to net.Addr, asked []byte) {
			answer := make([]byte, 48)
			copy(answer, head)
			copy(answer[24:], asked[40:48])
			copy(answer[40:], "\xee\xae\x62\x80\x80\x00\x00\x00")
			c.WriteTo(answer, to)
		}
	}
	lost := 0
	for _, c := range []struct {
		name, scheme string
		handle       func(net.PacketConn, net.Addr, []byte)
		want         string
	}{
		{"an answer", "dns", dns("\x81\x80\x00\x01\x00\x00\x00\x00\x00\x00"), "connected done  "},
		{"an answer to the third", "dns", func(c net.PacketConn, to net.Addr, asked []byte) {
			if lost++; lost == asks {
				dns("\x81\x80\x00\x01\x00\x00\x00\x00\x00\x00")(c, to, asked)
			}
		}, "connected done  "},
		{"a question given back", "dns", dns("\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00"), "connected malformed  "},
		{"a few bytes", "dns", dns(""), "connected malformed  "},
		{"silence", "dns", func(net.PacketConn, net.Addr, []byte) {}, "silent"},
		{"the time", "ntp", clock("\x24\x02"), "connected done  2026-11-23"},
		{"a clock that is not set", "ntp", clock("\xe4\x02"), "connected done unsynchronised "},
		{"a kiss of death", "ntp", clock("\xe4\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00DENY"),
			"connected done DENY "},
		{"something else", "ntp", dns("x"), "connected malformed  "},
		{"an answer to nothing", "udp", func(c net.PacketConn, to net.Addr,
			asked []byte) {
			c.WriteTo([]byte("!"), to)
		}, "connected done  "},
	} {
		server, err := net.ListenPacket("udp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer server.Close()
		go func() {
			for buffer := make([]byte, 512); ; {
				n, from, err := server.ReadFrom(buffer)
				if err != nil {
					return
				}
				c.handle(server, from, buffer[:n])
			}
		}()
		steps := climb(t, netip.MustParseAddrPort(server.LocalAddr().String()), c.scheme, fact.Plain, 2*time.Second)
		got := string(steps["connect"].Connect.Outcome)
		if r := steps["reply"].Reply; r != nil {
			got += fmt.Sprintf(" %s %s ", r.Ending, r.Code)
			if !r.Date.IsZero() {
				got += r.Date.Format(time.DateOnly)
			}
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}

	closed, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := netip.MustParseAddrPort(closed.LocalAddr().String())
	closed.Close()
	if c := climb(t, at, "dns", fact.Plain, 2*time.Second)["connect"].Connect; c.Outcome != fact.ICMP ||
		c.ICMP.Code != 3 ||
		c.ICMP.From != at.Addr() {
		t.Errorf("nobody there: %+v", c)
	}
}

func TestAlert(t *testing.T) {
	at := serve(t, func(c net.Conn) {
		c.Read(make([]byte, 4096))
		c.Write([]byte{0x15, 3, 3, 0, 2, 2, 70})
		io.Copy(io.Discard, c)
	})
	if h := climb(t, at, "https", fact.TLS, 2*time.Second)["handshake"].Handshake; h.Alert != 70 {
		t.Errorf("alert %d, want 70 (%+v)", h.Alert, h)
	}
}

// TestHugeChain is a server whose certificates would fill memory.
func TestHugeChain(t *testing.T) {
	huge := tls.Certificate{Certificate: [][]byte{certificate.Certificate[0]}, PrivateKey: certificate.PrivateKey}
	for range 4 << 20 / len(certificate.Certificate[0]) {
		huge.Certificate = append(huge.Certificate, certificate.Certificate[0])
	}
	at := serve(t, func(c net.Conn) { tls.Server(c, &tls.Config{Certificates: []tls.Certificate{huge}}).Handshake() })
	h := climb(t, at, "https", fact.TLS, 5*time.Second)["handshake"].Handshake
	if h.Ending == fact.Done || len(h.Chain) > mostCerts || h.Error == "" {
		t.Errorf("ending %s, %d certificates, %q", h.Ending, len(h.Chain), h.Error)
	}
}

// TestHostileSessions is servers whose part of a handshake makes no sense, or
// no end.
func TestHostileSessions(t *testing.T) {
	record := func(kind byte, body []byte) []byte {
		return append([]byte{kind, 3, 3, byte(len(body) >> 8), byte(len(body))}, body...)
	}
	for name, handle := range map[string]func(net.Conn){
		"endless messages": func(c net.Conn) { // each of them an empty one
			for {
				if _, err := c.Write(record(22, []byte{0, 0, 0, 0})); err != nil {
					return
				}
			}
		},
		"a message without an end": func(c net.Conn) {
			c.Write(record(22, []byte{2, 0xff, 0xff, 0xff}))
			for {
				if _, err := c.Write(record(22, make([]byte, 16000))); err != nil {
					return
				}
			}
		},
		"certificates that are none": func(c net.Conn) {
			broken := tls.Certificate{Certificate: [][]byte{append([]byte{0x30, 0x82, 0xff, 0xff},
				make([]byte, 900)...)}, PrivateKey: certificate.PrivateKey}
			tls.Server(c, &tls.Config{Certificates: []tls.Certificate{broken}}).Handshake()
		},
	} {
		at := serve(t, handle)
		h := climb(t, at, "https", fact.TLS, 5*time.Second)["handshake"].Handshake
		if h == nil || h.Ending == fact.Done || len(h.Chain) > 0 || h.TookMS > 4900 {
			t.Errorf("%s: %+v", name, h)
		}
	}
	// A long chain and long names are odd, and no fault of the session.
	many := tls.Certificate{
		Certificate: slices.Repeat([][]byte{certificate.Certificate[0]}, 99),
		PrivateKey:  certificate.PrivateKey,
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	wide := &x509.Certificate{
		SerialNumber: big.NewInt(7),
		NotAfter:     time.Now().Add(time.Hour),
		Subject:      pkix.Name{CommonName: "\x1b[2J" + strings.Repeat("x", 1000)},
	}
	for i := range 1500 {
		wide.DNSNames = append(wide.DNSNames, fmt.Sprintf("%s.%d.varzea.example", strings.Repeat("y", 30), i))
	}
	der, err := x509.CreateCertificate(rand.Reader, wide, wide, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	for want, each := range map[int]tls.Certificate{99: many, 1: {Certificate: [][]byte{der}, PrivateKey: key}} {
		at := serve(t,
			func(c net.Conn) { tls.Server(c, &tls.Config{Certificates: []tls.Certificate{each}}).Handshake() })
		if h := climb(t, at, "https", fact.TLS, 5*time.Second)["handshake"].Handshake; h.Ending != fact.Done ||
			len(h.Chain) != want {
			t.Errorf("%d certificates: %s, %d, %s", want, h.Ending, len(h.Chain), h.Error)
		}
	}
}

func TestConnectOutcomes(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	closed := netip.MustParseAddrPort(l.Addr().String())
	l.Close()
	if c := climb(t, closed, "http", fact.Plain, time.Second)["connect"].Connect; c.Outcome != fact.Reset {
		t.Errorf("a closed port: %+v", c)
	}
	if c := climb(t, netip.MustParseAddrPort("[2001:db8::1]:80"), "http", fact.Plain,
		time.Second)["connect"].Connect; c.Outcome == fact.Connected ||
		c.Outcome == fact.Reset {
		t.Errorf("nowhere: %+v", c)
	}
}

// TestCancelled sees that a look returns soon after its run ended.
func TestCancelled(t *testing.T) {
	at := serve(t, func(c net.Conn) { io.Copy(io.Discard, c) })
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(100*time.Millisecond, cancel)
	began := time.Now()
	Look(
		ctx,
		look.Env{},
		fact.Order{Target: fact.Target{Addr: at.Addr(), Port: at.Port(), Scheme: "http", Security: fact.Plain}},
		func(fact.Fact) {},
	)
	if took := time.Since(began); took > time.Second {
		t.Errorf("took %s after being cancelled", took)
	}
}
