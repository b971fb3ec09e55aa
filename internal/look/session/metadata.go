package session

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/look/trust"
)

// mostMetadata bounds a description that is fetched, in bytes.
const mostMetadata = 2 << 20

// Metadata fetches what a partner says of itself for signing in (Metadata for
// the OASIS Security Assertion Markup Language, version 2.0), from where this
// host stands. Redirects are not followed; the partner's certificate is judged
// and the text is read whatever comes of that. Target.Path is the URL.
func Metadata(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	m := fact.Metadata{URL: order.Target.Path}
	text, err := fetch(ctx, env, order.Target, &m)
	if err == nil && m.Status == http.StatusOK {
		err = parseMetadata(text, &m)
	}
	if err != nil {
		m.Wrong = foreign.Clean(look.Words(err))
	}
	saw := fmt.Sprintf("%d, entity %s, %s", m.Status, m.Entity, foreign.Plural(len(m.Certs), "certificate"))
	switch {
	case m.Wrong != "":
		saw = m.Wrong
	case m.Status != http.StatusOK:
		saw = fmt.Sprintf("answers %d", m.Status)
	}
	f := env.Seen(order, "metadata "+order.Target.Path, saw)
	f.Metadata = &m
	emit(f)
}

func fetch(ctx context.Context, env look.Env, t fact.Target, m *fact.Metadata) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, look.Within(ctx, env.Patience()))
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, t.Path, nil)
	if err != nil {
		return nil, errors.New("its URL cannot be read")
	}
	request.Header.Set("User-Agent", "uakari")
	client := &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{TLSClientConfig: &tls.Config{
			InsecureSkipVerify: true, // judged below, and told
			VerifyConnection: func(s tls.ConnectionState) error {
				m.Untrusted = untrusted(s, t.Trust)
				return nil
			},
		}},
	}
	defer client.CloseIdleConnections()
	answer, err := client.Do(request)
	if err != nil {
		var inner interface{ Unwrap() error }
		if errors.As(err, &inner) {
			err = inner.Unwrap() // without the URL, which is told already
		}
		return nil, err
	}
	defer answer.Body.Close()
	m.Status = answer.StatusCode
	text, err := io.ReadAll(io.LimitReader(answer.Body, mostMetadata+1))
	if err == nil && len(text) > mostMetadata {
		err = fmt.Errorf("more than %d bytes, which is all that is read", mostMetadata)
	}
	return text, err
}

// untrusted is why a store does not vouch for a session; "" if it does.
func untrusted(s tls.ConnectionState, path string) string {
	store, err := trust.Load(path)
	if err != nil {
		return "the trust store could not be read"
	}
	var raw [][]byte
	pool := x509.NewCertPool()
	for i, c := range s.PeerCertificates {
		raw = append(raw, c.Raw)
		if i > 0 {
			pool.AddCert(c)
		}
	}
	roots := x509.NewCertPool()
	for _, der := range store.For(raw) {
		if c, err := x509.ParseCertificate(der); err == nil {
			roots.AddCert(c)
		}
	}
	if _, err := s.PeerCertificates[0].Verify(x509.VerifyOptions{Roots: roots, Intermediates: pool,
		DNSName: s.ServerName}); err != nil {
		return foreign.Clean(strings.TrimPrefix(err.Error(), "x509: "))
	}
	return ""
}

// parseMetadata reads the parts of a description that are compared: its name and
// term, the addresses and the keys of its roles.
func parseMetadata(text []byte, m *fact.Metadata) error {
	d := xml.NewDecoder(bytes.NewReader(text))
	seen, signs := false, false // signs: within a key that is not for encryption alone
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("it is not XML that can be read: %w", err)
		}
		if end, ok := token.(xml.EndElement); ok && end.Name.Local == "KeyDescriptor" {
			signs = false
		}
		start, ok := token.(xml.StartElement)
		if !ok {
			continue
		}
		switch name := start.Name.Local; {
		case name == "EntityDescriptor" && !seen:
			seen, m.Entity = true, foreign.Clean(attribute(start, "entityID"))
			if at, err := time.Parse(time.RFC3339, attribute(start, "validUntil")); err == nil {
				m.Until = at.UTC()
			}
		case name == "EntitiesDescriptor":
			return errors.New("it describes many partners; expected the one of this pair")
		case name == "KeyDescriptor":
			signs = attribute(start, "use") != "encryption"
		case name == "X509Certificate" && signs:
			var body string
			if err := d.DecodeElement(&body, &start); err != nil {
				return fmt.Errorf("it is not XML that can be read: %w", err)
			}
			der, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(body), ""))
			if err != nil {
				return errors.New("a certificate in it is not in base64")
			}
			if len(m.Certs) < mostParts && !slices.ContainsFunc(m.Certs,
				func(c []byte) bool { return bytes.Equal(c, der) }) {
				m.Certs = append(m.Certs, der)
			}
		default:
			if at := attribute(start, "Location"); at != "" && len(m.Locations) < mostParts &&
				!slices.Contains(m.Locations, at) {
				m.Locations = append(m.Locations, foreign.Clean(at))
			}
		}
	}
	if !seen {
		return errors.New("it is no description of a partner: no EntityDescriptor in it")
	}
	return nil
}

// mostParts bounds how many certificates and addresses of one description are
// kept.
const mostParts = 20

func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}
