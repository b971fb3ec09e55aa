package test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uakari/internal/trail"
)

// issued is a certificate with its key, of any kind.
type issued struct {
	cert *x509.Certificate
	key  crypto.Signer
}

// issue signs a certificate with an authority; nil: with itself.
func (by *issued) issue(t *testing.T, key crypto.Signer, c *x509.Certificate) *issued {
	t.Helper()
	var err error
	if c.SerialNumber, err = rand.Int(rand.Reader, big.NewInt(1<<62)); err != nil {
		t.Fatal(err)
	}
	if c.NotAfter.IsZero() {
		c.NotBefore, c.NotAfter = time.Now().Add(-24*time.Hour), time.Now().Add(200*24*time.Hour)
	}
	parent, signer := c, key
	if by != nil {
		parent, signer = by.cert, by.key
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, key.Public(), signer)
	if err != nil {
		t.Fatal(err)
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return &issued{cert, key}
}

func (i *issued) keyPEM(t *testing.T) string {
	t.Helper()
	der, err := x509.MarshalPKCS8PrivateKey(i.key)
	if err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

func newKey[K crypto.Signer](t *testing.T) func(K, error) crypto.Signer {
	return func(key K, err error) crypto.Signer {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return key
	}
}

// TestCertCauses gives a real web server one odd certificate after another, of
// every kind of key.
func TestCertCauses(t *testing.T) {
	t.Parallel()
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	ec := func() crypto.Signer {
		return newKey[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(elliptic.P256(), rand.Reader))
	}
	rsaKey := func(bits int) crypto.Signer { return newKey[*rsa.PrivateKey](t)(rsa.GenerateKey(rand.Reader, bits)) }
	authority := func(name string) *x509.Certificate {
		return &x509.Certificate{
			Subject:               pkix.Name{CommonName: name},
			IsCA:                  true,
			BasicConstraintsValid: true,
			KeyUsage:              x509.KeyUsageCertSign,
		}
	}
	site := func(edit func(*x509.Certificate)) *x509.Certificate {
		c := &x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"}, DNSNames: []string{"localhost"}}
		if edit != nil {
			edit(c)
		}
		return c
	}
	var none *issued
	root := none.issue(t, ec(), authority("Varzea Root"))
	middle := root.issue(t, ec(), authority("Varzea Issuing"))
	narrow := root.issue(t, ec(), func() *x509.Certificate {
		c := authority("Varzea Harbour")
		c.PermittedDNSDomainsCritical, c.PermittedDNSDomains = true, []string{"harbour.varzea.example"}
		return c
	}())
	_, edKey, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	store := write(t, filepath.Join(t.TempDir(), "root.pem"), pemOf(root.cert))
	day := 24 * time.Hour
	from := func(after, until time.Duration) func(*x509.Certificate) {
		return func(c *x509.Certificate) { c.NotBefore, c.NotAfter = time.Now().Add(after), time.Now().Add(until) }
	}
	for _, c := range []struct {
		name  string
		leaf  *issued
		more  []*issued // sent after it
		want  string    // a fault; "~" before it: a doubt; "": well
		level string    // of the server's own library
	}{
		{"RSA", middle.issue(t, rsaKey(2048), site(nil)), []*issued{middle}, "", ""},
		{"Ed25519", middle.issue(t, edKey, site(nil)), []*issued{middle}, "", ""},
		{"by its second name",
			middle.issue(t, ec(), site(func(c *x509.Certificate) {
				c.DNSNames = []string{"ledger.varzea.example",
					"LOCALHOST"}
			})), []*issued{middle}, "", ""},
		{"not valid yet", middle.issue(t, ec(), site(from(day, 90*day))), []*issued{middle},
			"certs/not-yet-valid proven", ""},
		{"at its end", middle.issue(t, ec(), site(from(-80*day, 5*day))), []*issued{middle},
			"~certs/expires-soon proven", ""},
		{"a long way from its end", middle.issue(t, ec(), site(from(-1*day, 6*day))), []*issued{middle}, "", ""},
		{"common name alone", middle.issue(t, ec(), site(func(c *x509.Certificate) {
			c.Subject.CommonName,
				c.DNSNames = "localhost", nil
		})), []*issued{middle}, "certs/name-not-covered proven", ""},
		{"by itself", none.issue(t, ec(), site(nil)), nil, "certs/self-signed proven", ""},
		{"alone", middle.issue(t, ec(), site(nil)), nil, "certs/missing-intermediate proven", ""},
		{"the root in the middle", middle.issue(t, ec(), site(nil)), []*issued{root, middle},
			"~certs/chain-order proven", ""},
		{"twice", middle.issue(t, ec(), site(nil)), []*issued{middle, middle}, "~certs/chain-order proven", ""},
		{"for clients", middle.issue(t, ec(),
			site(func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth} })),
			[]*issued{middle}, "certs/wrong-purpose proven", ""},
		{"a short key", middle.issue(t, rsaKey(1024), site(nil)), []*issued{middle}, "certs/weak likely", "0"},
		{"outside what its authority may name", narrow.issue(t, ec(), site(nil)), []*issued{narrow},
			"certs/unknown-issuer proven", ""},
		{"its status must be sent along", middle.issue(t, ec(), site(func(c *x509.Certificate) {
			c.ExtraExtensions = []pkix.Extension{{Id: []int{1, 3, 6, 1, 5, 5, 7, 1, 24},
				Value: []byte{0x30, 3, 2, 1, 5}}}
		})), []*issued{middle}, "~certs/status-unknown proven", ""},
	} {
		dir, port := t.TempDir(), freePort(t)
		chain := pemOf(c.leaf.cert)
		for _, m := range c.more {
			chain += pemOf(m.cert)
		}
		write(t, filepath.Join(dir, "cert.pem"), chain)
		write(t, filepath.Join(dir, "key.pem"), c.leaf.keyPEM(t))
		var before []string
		if c.level != "" {
			before = []string{
				"env",
				"OPENSSL_CONF=" + write(
					t,
					filepath.Join(dir, "openssl.cnf"),
					"openssl_conf = all\n[all]\nssl_conf = ssl\n[ssl]\nsystem_default = "+
						"every\n[every]\nCipherString = DEFAULT@SECLEVEL="+c.level+"\n",
				),
			}
		}
		secureWebAs(t, before, nginx, dir, port, "")
		judged := traced(t, nil, "--trust", store, "--card", cardFor(t, nginx),
			fmt.Sprintf("https://localhost:%d/", port))
		doubt, isDoubt := strings.CutPrefix(c.want, "~")
		switch {
		case c.want == "":
			expectHealthy(t, judged)
		case isDoubt:
			if judged.Outcome != trail.OutcomeClear || len(judged.Causes) != 1 ||
				judged.Causes[0].ID+" "+string(judged.Causes[0].Certainty) != doubt {
				t.Errorf("%s: %s", c.name, dump(judged))
			}
		default:
			expect(t, judged, c.want)
		}
		if t.Failed() {
			t.Fatalf("so far %q", c.name)
		}
	}
}

// TestDefaultSite is a server of several sites, and a name that none of them is
// for.
func TestDefaultSite(t *testing.T) {
	t.Parallel()
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	m := newMaker(t)
	root := write(t, filepath.Join(m.dir, "root.pem"), pemOf(m.cert))
	hosts := write(
		t,
		filepath.Join(m.dir, "hosts"),
		"127.0.0.1 localhost tidebook.varzea.example ledger.varzea.example readings.varzea.example\n",
	)
	serve := func(sites ...string) int {
		dir, port := t.TempDir(), freePort(t)
		blocks := ""
		for i, name := range sites {
			if name == "reject" {
				blocks += fmt.Sprintf(
					"server { listen 127.0.0.1:%d ssl; server_name readings.varzea.example; ssl_reject_handshake "+
						"on; }\n",
					port,
				)
				continue
			}
			leaf, key := m.sign(&x509.Certificate{Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}},
				m.cert, m.key)
			cert := write(t, filepath.Join(dir, fmt.Sprintf("%d.pem", i)), pemOf(leaf))
			private := write(t, filepath.Join(dir, fmt.Sprintf("%d.key", i)), keyPEM(t, key))
			blocks += fmt.Sprintf(
				"server { listen 127.0.0.1:%d ssl; server_name %s; ssl_certificate %s; ssl_certificate_key %s; "+
					"return 200; }\n",
				port,
				name,
				cert,
				private,
			)
		}
		conf := webSettings(t, dir, blocks)
		start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, nginx, "-p", dir, "-c", conf)
		return port
	}
	for _, c := range []struct {
		sites []string
		name  string
		want  string
	}{
		{[]string{"tidebook.varzea.example", "ledger.varzea.example"}, "ledger", ""},
		{[]string{"tidebook.varzea.example", "ledger.varzea.example"}, "readings", "certs/wrong-default proven"},
		{[]string{"tidebook.varzea.example"}, "readings", "certs/name-not-covered proven"},
		{[]string{"tidebook.varzea.example", "reject"}, "readings", "certs/wrong-default proven"},
	} {
		judged := traced(
			t,
			nil,
			"--hosts",
			hosts,
			"--trust",
			root,
			"--card",
			cardFor(t, nginx),
			fmt.Sprintf("https://%s.varzea.example:%d/", c.name, serve(c.sites...)),
		)
		if c.want == "" {
			expectHealthy(t, judged)
		} else {
			expect(t, judged, c.want)
		}
	}
}

// TestHandshakeStalls is a front that takes a hello and never answers it.
func TestHandshakeStalls(t *testing.T) {
	t.Parallel()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			go func() { // the beginning of an answer, and no more
				c.Read(make([]byte, 4096))
				c.Write([]byte{22, 3, 3, 0, 90, 2, 0})
				time.Sleep(20 * time.Second)
				c.Close()
			}()
		}
	}()
	judged := traced(t, nil, "--deadline", "9s", "https://"+listener.Addr().String()+"/")
	if text := dump(judged); !strings.Contains(text, "certs/handshake-stalls") {
		t.Error(text)
	}
}

// TestClockWrong is a client whose clock is a year behind, by a real time
// server that it is set to follow.
func TestClockWrong(t *testing.T) {
	t.Parallel()
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	found := needs(t, "chrony faketime", "/usr/sbin/chronyd", "/usr/lib/*/faketime/libfaketime.so.1")
	l := newLab(t)
	var none *issued
	ec := newKey[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(elliptic.P256(), rand.Reader))
	root := none.issue(
		t,
		ec,
		&x509.Certificate{
			Subject:               pkix.Name{CommonName: "Varzea Root"},
			IsCA:                  true,
			BasicConstraintsValid: true,
			KeyUsage:              x509.KeyUsageCertSign,
			NotBefore:             time.Now().Add(-24 * time.Hour),
			NotAfter:              time.Now().Add(900 * 24 * time.Hour),
		},
	)
	leaf := root.issue(
		t,
		newKey[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(elliptic.P256(), rand.Reader)),
		&x509.Certificate{DNSNames: []string{"tidebook.varzea.example"},
			NotBefore: time.Now().Add(300 * 24 * time.Hour), NotAfter: time.Now().Add(500 * 24 * time.Hour)},
	)
	dir := t.TempDir()
	write(t, filepath.Join(dir, "cert.pem"), pemOf(leaf.cert))
	write(t, filepath.Join(dir, "key.pem"), leaf.keyPEM(t))
	conf := webSettings(
		t,
		dir,
		fmt.Sprintf(
			"server { listen 10.20.0.14:443 ssl; ssl_certificate %[1]s/cert.pem; ssl_certificate_key %[1]s/key.pem; "+
				"return 200; }",
			dir,
		),
	)
	start(t, "10.20.0.14:443", enter(l.server), nginx, "-p", dir, "-c", conf)
	chrony := write(
		t,
		filepath.Join(dir, "chrony.conf"),
		"local stratum 3\nallow all\nbindaddress 10.20.0.14\nport 123\ncmdport 0\npidfile "+filepath.Join(
			dir,
			"chrony.pid",
		)+"\n",
	)
	l.background(
		l.server,
		"env",
		"LD_PRELOAD="+found[1],
		"FAKETIME=+400d",
		found[0],
		"-x",
		"-d",
		"-U",
		"-u",
		"root",
		"-f",
		chrony,
	)
	// The host's own settings, as ip netns lays them over /etc.
	settings := filepath.Join("/etc/netns", l.client)
	if err := os.MkdirAll(settings, 0o755); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(settings) })
	write(t, filepath.Join(settings, "hosts"), "10.20.0.14 tidebook.varzea.example\n")
	if err := os.MkdirAll(filepath.Join(settings, "chrony"), 0o755); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(settings, "chrony", "chrony.conf"), "server 10.20.0.14\n")
	store := write(t, filepath.Join(dir, "root.pem"), pemOf(root.cert))
	var judged trail.Trail
	for range 20 {
		judged = traced(t, enter(l.client), "--trust", store, "https://tidebook.varzea.example/")
		if strings.Contains(dump(judged), "clock-wrong") {
			break
		}
		time.Sleep(250 * time.Millisecond)
	}
	expect(t, judged, "certs/clock-wrong proven")
}

// TestOtherOnTheWay lets a second web server answer in the first one's place:
// a translation on the way leads there.
func TestOtherOnTheWay(t *testing.T) {
	t.Parallel()
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	h, key := sshHost(t)
	var none *issued
	ec := func() crypto.Signer {
		return newKey[*ecdsa.PrivateKey](t)(ecdsa.GenerateKey(elliptic.P256(), rand.Reader))
	}
	ca := func(name string) *issued {
		return none.issue(
			t,
			ec(),
			&x509.Certificate{
				Subject:               pkix.Name{CommonName: name},
				IsCA:                  true,
				BasicConstraintsValid: true,
				KeyUsage:              x509.KeyUsageCertSign,
			},
		)
	}
	site := func(by *issued) *issued {
		return by.issue(
			t,
			ec(),
			&x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"},
				DNSNames: []string{"tidebook.varzea.example"}},
		)
	}
	root, box := ca("Varzea Root"), ca("Inspector")
	own, other := site(root), site(box)
	h.put("/etc/ssl/site.pem", pemOf(own.cert))
	h.put("/etc/ssl/site.key", own.keyPEM(t))
	h.put(
		"/etc/nginx/sites-enabled/tidebook",
		"server { listen 443 ssl; server_name tidebook.varzea.example; ssl_certificate /etc/ssl/site.pem; "+
			"ssl_certificate_key /etc/ssl/site.key; return 200; }\n",
	)
	h.do("systemctl restart nginx")
	dir := t.TempDir()
	write(t, filepath.Join(dir, "cert.pem"), pemOf(other.cert))
	write(t, filepath.Join(dir, "key.pem"), other.keyPEM(t))
	conf := webSettings(
		t,
		dir,
		fmt.Sprintf(
			"server { listen 10.20.7.1:8443 ssl; ssl_certificate %[1]s/cert.pem; ssl_certificate_key %[1]s/key.pem; "+
				"return 200; }",
			dir,
		),
	)
	start(t, "10.20.7.1:8443", enter(h.router), nginx, "-p", dir, "-c", conf)
	h.filter(
		h.router,
		"table ip n {\n chain pre {\n type nat hook prerouting priority -100\n ip daddr 10.20.0.14 tcp dport 443 "+
			"dnat to 10.20.7.1:8443\n }\n}",
	)
	hosts := write(t, filepath.Join(dir, "hosts"), "10.20.0.14 tidebook.varzea.example\n")
	store := write(t, filepath.Join(dir, "root.pem"), pemOf(root.cert))
	judged := traced(
		t,
		h.from(),
		"--at",
		"root@10.20.0.14",
		"--identity",
		key,
		"--hosts",
		hosts,
		"--trust",
		store,
		"https://tidebook.varzea.example/",
	)
	if text := dump(judged); !strings.Contains(text, "certs/other-on-the-way proven true") {
		t.Error(text)
	}
}
