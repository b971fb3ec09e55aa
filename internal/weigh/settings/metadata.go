package settings

import (
	"bytes"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// metadataReadings reads what the partners of the card say of themselves for
// signing in, as both sides fetch it: whether it can be fetched, is in its term,
// names the partner's host, and has the keys that are in use.
func metadataReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	var readings []gate.Reading
	for _, pair := range v.Ask.Card.Pairs {
		if pair.Metadata == "" {
			continue
		}
		e, err := endpoint.Parse(pair.Endpoint)
		if err != nil {
			continue // cards are checked when they are read
		}
		target := fact.Target{Path: pair.Metadata, Trust: pair.Trust}
		w.Add(scene.Want{Look: fact.LookMetadata, At: fact.Client, Target: target, Gate: gate.Intent})
		if t.Server != "" {
			w.Add(scene.Want{Look: fact.LookMetadata, At: fact.Server, On: t.Server, Target: target,
				Gate: gate.Intent})
		}
		var first *fact.Metadata
		for _, at := range []string{v.Client, t.Server} {
			f := metadataAt(v, at, pair.Metadata)
			if f == nil || at == v.Client && t.Server == v.Client {
				continue
			}
			j := metadataJudge{v, t, f, e, at}
			readings = append(readings, j.readings(first)...)
			if f.Metadata.Wrong == "" && f.Metadata.Status == 200 {
				first = f.Metadata
			}
		}
	}
	return readings
}

func metadataAt(v *scene.Scene, vantage, url string) *fact.Fact {
	if vantage == "" {
		return nil
	}
	for _, f := range v.Facts(vantage, fact.LookMetadata) {
		if f.Metadata != nil && f.Order.Target.Path == url {
			return f
		}
	}
	return nil
}

// metadataJudge judges what one side fetched.
type metadataJudge struct {
	v    *scene.Scene
	t    *scene.Try
	f    *fact.Fact
	pair fact.Endpoint
	at   string
}

func (j metadataJudge) reading(cause, summary string) gate.Reading {
	return gate.Reading{
		Gate: gate.Intent, Cause: cause, Strength: gate.Read, Reach: gate.Elsewhere, Shows: ofNoTry, Which: summary,
		Because: scene.FactIDs(j.f), Vantage: j.at, Summary: summary,
		Values: j.v.Place(j.t, catalogue.Values{"url": j.f.Metadata.URL, "host": j.v.Host(j.at),
			"partner": j.pair.Host}),
	}
}

// readings is everything that is wrong with it; first is what the other side
// fetched, nil if nothing.
func (j metadataJudge) readings(first *fact.Metadata) []gate.Reading {
	m := j.f.Metadata
	host := j.v.Host(j.at)
	switch {
	case m.Wrong != "":
		return []gate.Reading{
			j.reading("settings/metadata-unread", fmt.Sprintf("%s cannot read the description %s: %s", host, m.URL,
				m.Wrong)),
		}
	case m.Status != 200:
		return []gate.Reading{
			j.reading(
				"settings/metadata-unread",
				fmt.Sprintf("%s asks for the description %s and is answered %d", host, m.URL, m.Status),
			),
		}
	}
	var list []gate.Reading
	now := j.v.Ask.Began
	if !m.Until.IsZero() && m.Until.Before(now) {
		list = append(
			list,
			j.reading(
				"settings/metadata-stale",
				fmt.Sprintf(
					"the description of %s was to be used until %s, %s ago",
					j.pair.Host,
					m.Until.Format("2006-01-02 15:04"),
					foreign.Span(now.Sub(m.Until)),
				),
			),
		)
	}
	named := slices.ContainsFunc(m.Locations, func(at string) bool {
		u, err := endpoint.Parse(at)
		return err == nil && strings.EqualFold(u.Host, j.pair.Host)
	})
	if len(m.Locations) > 0 && !named {
		list = append(
			list,
			j.reading(
				"settings/metadata-differs",
				fmt.Sprintf(
					"the description of %s names other addresses: %s",
					j.pair.Host,
					strings.Join(m.Locations[:min(3, len(m.Locations))], ", "),
				),
			),
		)
	}
	list = append(list, j.keys(now.Unix())...)
	if first != nil && (first.Entity != m.Entity || !sameCerts(first.Certs, m.Certs)) {
		list = append(
			list,
			j.reading(
				"settings/metadata-differs",
				fmt.Sprintf(
					"%s is given another description by %s than the other side: entity %s, %s",
					host,
					m.URL,
					m.Entity,
					foreign.Plural(len(m.Certs), "certificate"),
				),
			),
		)
	}
	return list
}

// keys compares the certificates in it with the time, and with what the partner
// serves: one for the partner's own name that has another key was exchanged on
// one side alone.
func (j metadataJudge) keys(now int64) []gate.Reading {
	var list []gate.Reading
	served := j.served()
	for _, der := range j.f.Metadata.Certs {
		c, err := x509.ParseCertificate(der)
		if err != nil {
			list = append(
				list,
				j.reading(
					"settings/metadata-unread",
					fmt.Sprintf("a certificate in the description of %s cannot be read", j.pair.Host),
				),
			)
			continue
		}
		if c.NotAfter.Unix() < now {
			list = append(
				list,
				j.reading(
					"settings/metadata-stale",
					fmt.Sprintf(
						"the certificate %s in the description of %s ended on %s",
						c.Subject,
						j.pair.Host,
						c.NotAfter.UTC().Format("2006-01-02"),
					),
				),
			)
		}
		if served == nil || c.VerifyHostname(j.pair.Host) != nil ||
			bytes.Equal(c.RawSubjectPublicKeyInfo, served.RawSubjectPublicKeyInfo) ||
			slices.ContainsFunc(
				j.f.Metadata.Certs,
				func(o []byte) bool { return bytes.Contains(o, served.RawSubjectPublicKeyInfo) },
			) {
			continue
		}
		r := j.reading(
			"settings/metadata-differs",
			fmt.Sprintf("the description of %s has another key than the one that %s serves now", j.pair.Host,
				j.pair.Host),
		)
		r.Strength = gate.Inferred
		r.Lacks = []gate.Lack{
			{Guard: gate.OneMeaning, Why: "a partner may sign with another key than the one that it serves"},
		}
		list = append(list, r)
	}
	return list
}

// served is the certificate that the partner was seen to serve, from the server.
func (j metadataJudge) served() *x509.Certificate {
	for _, hop := range j.v.Set.Behind {
		if !hop.Pair || !strings.EqualFold(hop.Set.Ask.Endpoint.Host, j.pair.Host) {
			continue
		}
		for _, f := range hop.Set.Facts {
			if f.Handshake != nil && len(f.Handshake.Chain) > 0 {
				if c, err := x509.ParseCertificate(f.Handshake.Chain[0]); err == nil {
					return c
				}
			}
		}
	}
	return nil
}

func sameCerts(a, b [][]byte) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(x []byte) bool {
		return !slices.ContainsFunc(b, func(y []byte) bool { return bytes.Equal(x, y) })
	})
}
