package weigh

import (
	"crypto/x509"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

func (s *scenario) certFiles(pairs ...fact.CertPair) *scenario {
	return s.add(
		"v2",
		fact.LookCertFiles,
		fact.Target{Port: s.ask.Endpoint.Port},
		func(f *fact.Fact) { f.CertFiles = &fact.CertFiles{Pairs: pairs} },
	)
}

// TestCertFilesOfStopped is services that do not run, with files of theirs
// that are of no use.
func TestCertFilesOfStopped(t *testing.T) {
	no := false
	pair := func(program string, edit func(*fact.CertPair)) fact.CertPair {
		p := fact.CertPair{
			Program: program,
			Place:   "/etc/nginx/nginx.conf:9",
			Cert:    "/etc/nginx/tide.crt",
			Key:     "/etc/nginx/tide.key",
		}
		edit(&p)
		return p
	}
	mismatch := pair("nginx", func(p *fact.CertPair) { p.Belongs = &no })
	missing := pair("nginx", func(p *fact.CertPair) { p.Wrong = "there is no file /etc/nginx/tide.crt" })
	failed := unitWith(
		func(u *fact.Unit) { u.Log = logged("[emerg] SSL_CTX_use_PrivateKey failed (key values mismatch)") },
	)
	stopped := with(nginxDown, fact.Unit{Name: "nginx.service", Load: "loaded", Active: "inactive"})
	for name, c := range map[string]struct {
		program fact.Program
		pair    fact.CertPair
		want    []string
		service trail.State
	}{
		"the start failed for it": {failed, mismatch, []string{"certs/key-mismatch proven"}, trail.Follows},
		"a file is missing":       {failed, missing, []string{"certs/store-unreadable proven"}, trail.Follows},
		"stopped, and that too": {stopped, mismatch, []string{"service/stopped proven",
			"certs/key-mismatch proven"}, trail.Fault},
		"another program's": {failed, pair("postgres", func(p *fact.CertPair) { p.Belongs = &no }),
			[]string{"service/settings-rejected proven"}, trail.Fault},
		"one that runs on without": {failed, pair("dovecot", func(p *fact.CertPair) { p.Belongs = &no }),
			[]string{"service/settings-rejected proven"}, trail.Fault},
		"nobody could read the file": {failed, pair("nginx",
			func(p *fact.CertPair) { p.Unread = "permission denied" }), []string{"service/settings-rejected proven"},
			trail.Fault},
	} {
		t.Run(name, func(t *testing.T) {
			got := newScene(
				t,
				secure,
			).holds("v1", gauge).
				holds("v2", tidebook).
				named(tidebook).
				client(tidebook, reset).
				listening().
				programs("systemd", c.program).
				certFiles(c.pair).
				weigh()
			expect(t, got, c.want...)
			for _, f := range got.Rungs {
				if f.Name == trail.Service && f.State != c.service {
					t.Errorf("service is %s, want %s", f.State, c.service)
				}
			}
			if len(got.Causes[0].Remedies) == 0 {
				t.Error("no remedy")
			}
		})
	}
}

// TestNotReloaded breaks each guard of a certificate that was not loaded.
func TestNotReloaded(t *testing.T) {
	const name = "tidebook.varzea.example"
	root := issue(t, nil, "Varzea Root", true, nil)
	old := issue(t, root, name, false, func(c *x509.Certificate) { c.NotAfter = began.Add(-time.Hour) })
	fresh := issue(t, root, name, false, nil)
	running := nginxUp
	running.Processes = []fact.Process{{PID: 7, State: "S", Since: began.Add(-100 * time.Hour)}}
	scenario := func(pairs ...fact.CertPair) trail.Trail {
		return newScene(t, secure).holds("v1", gauge).holds("v2", tidebook).named(tidebook).
			client(tidebook, connected, shook(fact.Handshake{Ending: fact.Done, Version: "TLS 1.3",
				Chain: chainOf(old)}), trusting(root.cert.Raw), replied(200)).
			listening(listener("0.0.0.0", 443, "nginx")).programs("", running).certFiles(pairs...).weigh()
	}
	file := fact.CertPair{
		Program: "nginx",
		Place:   "/etc/nginx/nginx.conf:9",
		Cert:    "/etc/nginx/tide.crt",
		Chain:   chainOf(fresh),
		Changed: began.Add(-time.Hour),
	}
	expect(t, scenario(file), "certs/not-reloaded proven")
	early := file
	early.Changed = began.Add(-200 * time.Hour)
	expect(t, scenario(early), "certs/expired proven") // the service read this very file
	same := file
	same.Chain = chainOf(old)
	expect(t, scenario(same), "certs/expired proven")
	other := file
	other.Place = "/etc/nginx/other.conf:3"
	expect(t, scenario(file, other), "certs/expired proven") // which of the two it is set to is not known
	elsewhere := file
	elsewhere.Ports = []uint16{8443}
	expect(t, scenario(elsewhere), "certs/expired proven")
}
