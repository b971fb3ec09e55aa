package session

import (
	"bytes"
	"context"
	"crypto/tls"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// TestOffers asks servers of the standard library, each of which takes some
// versions and suites, and some that are no servers of TLS at all.
func TestOffers(t *testing.T) {
	server := func(config *tls.Config) func(net.Conn) {
		return func(c net.Conn) {
			config.Certificates = []tls.Certificate{certificate}
			tls.Server(c, config).Handshake()
		}
	}
	for name, c := range map[string]struct {
		handle func(net.Conn)
		want   string // of versions, what is taken
	}{
		"everything":  {server(&tls.Config{MinVersion: tls.VersionTLS10}), "TLS 1.3, TLS 1.2, TLS 1.1, TLS 1.0"},
		"one version": {server(&tls.Config{MinVersion: tls.VersionTLS12, MaxVersion: tls.VersionTLS12}), "TLS 1.2"},
		"new only":    {server(&tls.Config{MinVersion: tls.VersionTLS13}), "TLS 1.3"},
		"one suite": {server(&tls.Config{MaxVersion: tls.VersionTLS12,
			CipherSuites: []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384}}), "TLS 1.2"},
		"another one": {says("SSH-2.0-OpenSSH_9.2\r\n"), ""},
		"silence":     {func(c net.Conn) { io.Copy(io.Discard, c) }, ""},
		"endless": {func(c net.Conn) {
			io.Copy(c, strings.NewReader(strings.Repeat("\x16\x03\x03\xff\xff",
				1<<16)))
		}, ""},
		"a short word": {says("\x16\x03\x03\x00\x04\x02\x00\x00\x00"), ""},
	} {
		at := serve(t, c.handle)
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
		var taken []string
		order := fact.Order{
			Look: fact.LookOffers,
			Target: fact.Target{
				Name:     "tidebook.varzea.example",
				Addr:     at.Addr(),
				Port:     at.Port(),
				Scheme:   "https",
				Security: fact.TLS,
			},
		}
		Offers(ctx, look.Env{Wait: time.Second}, order, func(f fact.Fact) {
			for _, o := range f.Offers.List {
				if o.Cipher != "" && !o.Own {
					taken = append(taken, o.Version)
				}
				if name == "one suite" && o.Version == "TLS 1.2" &&
					o.Cipher != "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384" {
					t.Errorf("%s: %+v", name, o)
				}
			}
		})
		cancel()
		if got := strings.Join(taken, ", "); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// FuzzServerWord sees that no first message of a server makes reading it panic.
func FuzzServerWord(f *testing.F) {
	f.Add([]byte("\x16\x03\x03\x00\x04\x02\x00\x00\x00"))
	f.Add([]byte("\x15\x03\x01\x00\x02\x02\x46"))
	f.Fuzz(func(_ *testing.T, text []byte) { serverWord(bytes.NewReader(text)) })
}
