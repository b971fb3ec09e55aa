package clientlib

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	mathrand "math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/protocol"
)

// The referee is the real client program: in worlds made at random it meets a server of
// ours, and how that ends is compared with what its settings mean by this package.

// worlds is how many are made for each program.
var worlds = func() int {
	if os.Getenv("UAKARI_LIVE") != "" {
		return 200
	}
	return 20
}()

// How a client's try ends.
const (
	reached   = "reached"
	noTLS     = "the server has no TLS"
	untrusted = "the certificate is not trusted"
	otherName = "the certificate is of another name"
	noRoots   = "its roots are not there"
)

// authority is a root with a certificate for 127.0.0.1 and one for another name.
type authority struct {
	pem         []byte
	here, other tls.Certificate
}

func newAuthority(t *testing.T, name string) authority {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	root := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name}, IsCA: true, BasicConstraintsValid: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		KeyUsage: x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, root, root, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	leaf := func(serial int64, addr net.IP) tls.Certificate {
		own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		text, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{
			SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: addr.String()},
			IPAddresses: []net.IP{addr},
			NotBefore:   time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
			ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		}, root, &own.PublicKey, key)
		if err != nil {
			t.Fatal(err)
		}
		return tls.Certificate{Certificate: [][]byte{text}, PrivateKey: own}
	}
	return authority{
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		leaf(2, net.IPv4(127, 0, 0, 1)), leaf(3, net.IPv4(127, 0, 0, 99)),
	}
}

// serve answers connections by a function until the test ends.
func serve(t *testing.T, answer func(net.Conn)) (port int) {
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
				c.SetDeadline(time.Now().Add(10 * time.Second))
				answer(c)
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

// world is the folder and the environment of one account.
type world struct {
	t    *testing.T
	r    *mathrand.Rand
	home string
	env  []string
}

func newWorld(t *testing.T, r *mathrand.Rand) *world {
	home := t.TempDir()
	return &world{t, r, home, []string{"HOME=" + home, "PATH=" + os.Getenv("PATH"), "LC_ALL=C"}}
}

// one is one of several texts, "" among them as often as any.
func (w *world) one(of ...string) string {
	if n := w.r.IntN(len(of) + 1); n < len(of) {
		return of[n]
	}
	return ""
}

// set sets a variable, unless to nothing.
func (w *world) set(name, value string) {
	if value != "" {
		w.env = append(w.env, name+"="+value)
	}
}

// file writes a file below the home.
func (w *world) file(name, text string) string {
	w.t.Helper()
	path := filepath.Join(w.home, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		w.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		w.t.Fatal(err)
	}
	return path
}

// run runs a program in the world.
func (w *world) run(name string, args ...string) string {
	c := exec.Command(name, args...)
	c.Env, c.Dir, c.Stdin = w.env, w.home, bytes.NewReader(nil)
	out, _ := c.CombinedOutput() // how it ended is in what it says
	return string(out)
}

// way is what this package reads in the world.
func (w *world) way(text string) (fact.Endpoint, fact.ClientWay) {
	w.t.Helper()
	e, err := endpoint.Parse(text)
	if err != nil {
		w.t.Fatal(err)
	}
	var way fact.ClientWay
	w.within(func() { way, _ = For(e, "") })
	return e, way
}

// within does something with the environment of the world, in its home.
func (w *world) within(do func()) {
	w.t.Helper()
	old := os.Environ()
	os.Clearenv()
	for _, each := range w.env {
		name, value, _ := strings.Cut(each, "=")
		os.Setenv(name, value)
	}
	dir, err := os.Getwd()
	if err == nil {
		err = os.Chdir(w.home) // where the program runs too
	}
	if err != nil {
		w.t.Fatal(err)
	}
	defer func() {
		if err := os.Chdir(dir); err != nil {
			w.t.Error(err)
		}
		os.Clearenv()
		for _, each := range old {
			name, value, _ := strings.Cut(each, "=")
			os.Setenv(name, value)
		}
	}()
	do()
}

// met is how a try ends, by what was read, at a server with or without TLS, whose
// certificate was issued by one of two authorities, for this address or not.
func met(e fact.Endpoint, way fact.ClientWay, hasTLS, byOther, wrongName bool, roots map[string]bool) string {
	scheme, _ := protocol.Lookup(e.Scheme)
	set := protocol.Of(scheme.Wire).Modes.Values[strings.ToLower(way.Mode)]
	set.Insist = set.Insist && !way.Lax
	path, _, _ := strings.Cut(way.Trust, ",")
	trusts, there := roots[path]
	switch {
	case set.Security == fact.Plain, !hasTLS && !set.Insist:
		return reached
	case !hasTLS:
		return noTLS
	case set.Verify && path != "" && !there:
		return noRoots
	case set.Verify && (path == "" || trusts == byOther):
		return untrusted
	case set.Verify && !set.AnyName && wrongName:
		return otherName
	}
	return reached
}

// saying is words of a program, and the end that they mean; the first that is said counts.
type saying struct{ words, end string }

func endOf(out string, list []saying) string {
	for _, s := range list {
		if strings.Contains(out, s.words) {
			return s.end
		}
	}
	return ""
}

func needs(t *testing.T, program string) {
	t.Helper()
	if _, err := exec.LookPath(program); err != nil {
		t.Skip(program + " is not installed")
	}
}

// TestRefereePsql compares with psql.
func TestRefereePsql(t *testing.T) {
	needs(t, "psql")
	ours, theirs := newAuthority(t, "Varzea Root"), newAuthority(t, "Heron Root")
	ports := map[[3]bool]int{}
	for _, c := range [][3]bool{{}, {true}, {true, true}, {true, false, true}} {
		cert := ours.here
		switch {
		case c[1]:
			cert = theirs.here
		case c[2]:
			cert = ours.other
		}
		ports[c] = serve(t, func(conn net.Conn) { postgresAnswers(conn, c[0], cert) })
	}
	seed := uint64(time.Now().UnixNano())
	r := mathrand.New(mathrand.NewPCG(seed, 1))
	counts := map[string]int{}
	modes := []string{"disable", "allow", "prefer", "require", "verify-ca", "verify-full", "verify-full", "verify-ca"}
	for n := range worlds {
		w := newWorld(t, r)
		roots := map[string]bool{} // whether a file holds our root
		root := func(name string) string {
			ok := r.IntN(3) > 0
			text := theirs.pem
			if ok {
				text = ours.pem
			}
			path := w.file(name, string(text))
			roots[path] = ok
			return path
		}
		if r.IntN(2) == 0 {
			root(".postgresql/root.crt")
		}
		values := func() (list []string) {
			if mode := w.one(modes...); mode != "" {
				list = append(list, "sslmode="+mode)
			}
			switch r.IntN(4) {
			case 0:
				list = append(list, "sslrootcert="+root(fmt.Sprintf("r%d.crt", r.IntN(1e6))))
			case 1:
				list = append(list, "sslrootcert="+filepath.Join(w.home, "nowhere.crt"))
			}
			return list
		}
		for _, v := range values() {
			name, value, _ := strings.Cut(v, "=")
			w.set("PG"+strings.ToUpper(name), value)
		}
		w.set("PGREQUIRESSL", w.one("1", "0"))
		if r.IntN(3) == 0 {
			w.set("PGSERVICE", "tides")
			text := "# services\n[other]\nsslmode=disable\n[tides]\n" + strings.Join(values(), "\n") + "\n"
			switch r.IntN(3) {
			case 0:
				w.file(".pg_service.conf", text)
			case 1:
				w.set("PGSERVICEFILE", w.file("own.conf", text))
			default:
				w.file("pg_service.conf", text)
				w.set("PGSYSCONFDIR", w.home)
			}
		}
		c := [][3]bool{{}, {true}, {true, true}, {true, false, true}}[r.IntN(4)]
		said := ""
		if r.IntN(3) == 0 {
			if list := values(); len(list) > 0 {
				said = "?" + strings.Join(list, "&")
			}
		}
		url := fmt.Sprintf("postgres://127.0.0.1:%d/tides%s", ports[c], said)
		out := w.run("psql", "-w", "-U", "gauge", "-c", "select 1", url)
		have := endOf(out, []saying{{"reached", reached}, {"does not support SSL", noTLS},
			{"certificate verify failed", untrusted}, {"does not match", otherName},
			{"root certificate file", noRoots}})
		e, way := w.way(url)
		want := met(e, way, c[0], c[1], c[2], roots)
		counts[have]++
		if have != want {
			t.Errorf("seed %d, world %d: psql: %q, %s; by its settings: %s\n%v\n%s\n%+v", seed, n, have, strings.TrimSpace(out),
				want, w.env, url, way)
		}
	}
	t.Logf("%d worlds: %v", worlds, counts)
}

// postgresAnswers speaks as far as a client's start-up message, and refuses that.
func postgresAnswers(c net.Conn, hasTLS bool, cert tls.Certificate) {
	const ssl, gss = 80877103, 80877104 // the requests' codes ("Message Formats")
	for {
		head := make([]byte, 8)
		if _, err := io.ReadFull(c, head); err != nil {
			return
		}
		switch code := binary.BigEndian.Uint32(head[4:]); {
		case code == ssl && hasTLS:
			c.Write([]byte("S"))
			secured := tls.Server(c, &tls.Config{Certificates: []tls.Certificate{cert}})
			if secured.Handshake() != nil {
				return
			}
			c = secured
		case code == ssl, code == gss:
			c.Write([]byte("N"))
		default:
			rest := make([]byte, binary.BigEndian.Uint32(head)-8)
			if _, err := io.ReadFull(c, rest); err != nil {
				return
			}
			body := "SFATAL\x00VFATAL\x00C28000\x00Mreached\x00\x00"
			message := binary.BigEndian.AppendUint32([]byte{'E'}, uint32(4+len(body)))
			c.Write(append(message, body...))
			return
		}
	}
}

// TestRefereeMariaDB compares with mariadb, which reads the option files of its account.
func TestRefereeMariaDB(t *testing.T) {
	needs(t, "mariadb")
	ours, theirs := newAuthority(t, "Varzea Root"), newAuthority(t, "Heron Root")
	cases := [][3]bool{{}, {true}, {true, true}, {true, false, true}}
	ports := map[[3]bool]int{}
	for _, c := range cases {
		cert := ours.here
		switch {
		case c[1]:
			cert = theirs.here
		case c[2]:
			cert = ours.other
		}
		ports[c] = serve(t, func(conn net.Conn) { mysqlAnswers(conn, c[0], cert) })
	}
	seed := uint64(time.Now().UnixNano())
	r := mathrand.New(mathrand.NewPCG(seed, 2))
	counts := map[string]int{}
	for n := range worlds {
		w := newWorld(t, r)
		roots := map[string]bool{}
		option := func() string {
			switch r.IntN(8) {
			case 0:
				return "ssl"
			case 1:
				return "skip-ssl"
			case 2:
				return "ssl=" + []string{"0", "1", "on", "off", "true", "false"}[r.IntN(6)]
			case 3, 4:
				ok := r.IntN(3) > 0
				text := theirs.pem
				if ok {
					text = ours.pem
				}
				path := w.file(fmt.Sprintf("r%d.pem", r.IntN(1e6)), string(text))
				roots[path] = ok
				return "ssl-ca=" + path
			case 5:
				return "ssl_verify_server_cert"
			case 6:
				return "skip-ssl-verify-server-cert"
			}
			return "connect-timeout=5"
		}
		var text strings.Builder
		for range r.IntN(4) {
			groups := []string{"client", "mysql", "client-server", "client-mariadb", "mysqld", "mysqldump"}
			fmt.Fprintf(&text, "[%s]\n", groups[r.IntN(len(groups))])
			for range r.IntN(3) {
				fmt.Fprintln(&text, option())
			}
		}
		if r.IntN(4) == 0 {
			path := w.file("more.cnf", "[client]\n"+option()+"\n")
			fmt.Fprintf(&text, "!include %s\n", path)
		}
		w.file(".my.cnf", text.String())
		c := cases[r.IntN(4)]
		out := w.run("mariadb", "-h", "127.0.0.1", "-P", fmt.Sprint(ports[c]), "-u", "gauge", "-e", "select 1")
		have := endOf(out, []saying{{"reached", reached}, {"does not support", noTLS}, {"SSL is required", noTLS},
			{"IP address mismatch", otherName}, {"Validation of SSL server certificate failed", otherName},
			{"self-signed", untrusted}, {"unable to get", untrusted}, {"certificate verify failed", untrusted},
			{"not trusted", untrusted}, {"ASN: bad other signature", untrusted}, {"SSL connection error", untrusted}})
		e, way := w.way(fmt.Sprintf("mysql://127.0.0.1:%d/tides", ports[c]))
		want := met(e, way, c[0], c[1], c[2], roots)
		counts[have]++
		if have != want {
			t.Errorf("seed %d, world %d: mariadb: %q, %s; by its settings: %s\n%s\n%+v", seed, n, have, strings.TrimSpace(out), want,
				text.String(), way)
		}
	}
	t.Logf("%d worlds: %v", worlds, counts)
}

// mysqlAnswers greets, takes a session to TLS where the client asks for it, and refuses it
// ("Connection Phase").
func mysqlAnswers(c net.Conn, hasTLS bool, cert tls.Certificate) {
	const ssl, protocol41, secure, plugins = 0x800, 0x200, 0x8000, 0x80000
	caps := uint32(protocol41 | secure | plugins | 1)
	if hasTLS {
		caps |= ssl
	}
	greeting := append([]byte{10}, "10.11.19-tide\x00"...)
	greeting = append(greeting, 1, 0, 0, 0)
	greeting = append(greeting, "12345678\x00"...)
	greeting = binary.LittleEndian.AppendUint16(greeting, uint16(caps))
	greeting = append(greeting, 45, 2, 0)
	greeting = binary.LittleEndian.AppendUint16(greeting, uint16(caps>>16))
	greeting = append(append(greeting, 21), make([]byte, 10)...)
	greeting = append(greeting, "123456789012\x00mysql_native_password\x00"...)
	packet := func(number byte, body []byte) {
		c.Write(append([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), number}, body...))
	}
	packet(0, greeting)
	read := func() (body []byte, number byte) {
		head := make([]byte, 4)
		if _, err := io.ReadFull(c, head); err != nil {
			return nil, 0
		}
		body = make([]byte, int(head[0])|int(head[1])<<8|int(head[2])<<16)
		if _, err := io.ReadFull(c, body); err != nil {
			return nil, 0
		}
		return body, head[3]
	}
	body, number := read()
	if len(body) == 32 && binary.LittleEndian.Uint32(body)&ssl != 0 {
		secured := tls.Server(c, &tls.Config{Certificates: []tls.Certificate{cert}})
		if secured.Handshake() != nil {
			return
		}
		c = secured
		body, number = read()
	}
	if body == nil {
		return
	}
	packet(number+1, append([]byte{0xff, 0x15, 0x04}, "#28000reached"...))
}

// TestRefereeLDAP compares with ldapsearch over ldaps.
func TestRefereeLDAP(t *testing.T) {
	needs(t, "ldapsearch")
	ours, theirs := newAuthority(t, "Varzea Root"), newAuthority(t, "Heron Root")
	type server struct {
		port      int
		byOther   bool
		wrongName bool
	}
	answer := func(cert tls.Certificate) func(net.Conn) {
		return func(c net.Conn) {
			secured := tls.Server(c, &tls.Config{Certificates: []tls.Certificate{cert}})
			if secured.Handshake() == nil && readSome(secured) {
				// A bind response (RFC 4511): unwilling to perform, "reached".
				secured.Write(append([]byte{0x30, 0x13, 2, 1, 1, 0x61, 0x0e, 0x0a, 1, 53, 4, 0, 4, 7}, "reached"...))
				readSome(secured)
			}
		}
	}
	servers := []server{{serve(t, answer(ours.here)), false, false}, {serve(t, answer(theirs.here)), true, false},
		{serve(t, answer(ours.other)), false, true}}
	seed := uint64(time.Now().UnixNano())
	r := mathrand.New(mathrand.NewPCG(seed, 3))
	counts := map[string]int{}
	for n := range worlds {
		w := newWorld(t, r)
		roots := map[string]bool{}
		value := func() (name, value string) {
			if r.IntN(2) == 0 {
				return "TLS_REQCERT", []string{"never", "allow", "try", "demand", "hard"}[r.IntN(5)]
			}
			ok := r.IntN(3) > 0
			text := theirs.pem
			if ok {
				text = ours.pem
			}
			path := w.file(fmt.Sprintf("r%d.pem", r.IntN(1e6)), string(text))
			roots[path] = ok
			return "TLS_CACERT", path
		}
		lines := func() string {
			var text strings.Builder
			text.WriteString("# of this account\nTIMEOUT 10\n")
			for range r.IntN(3) {
				name, value := value()
				fmt.Fprintf(&text, "%s\t%s\n", name, value)
			}
			return text.String()
		}
		for _, name := range []string{".ldaprc", "ldaprc"} {
			if r.IntN(2) == 0 {
				w.file(name, lines())
			}
		}
		switch r.IntN(4) {
		case 0:
			w.set("LDAPCONF", w.file("own.conf", lines()))
		case 1:
			w.file("tiderc", lines())
			w.set("LDAPRC", "tiderc")
		}
		for range r.IntN(2) {
			name, value := value()
			w.set("LDAP"+name, value)
		}
		if r.IntN(20) == 0 {
			w.set("LDAPNOINIT", "1")
		}
		s := servers[r.IntN(3)]
		url := fmt.Sprintf("ldaps://127.0.0.1:%d", s.port)
		out := w.run("ldapsearch", "-x", "-H", url, "-b", "", "-s", "base")
		have := endOf(out, []saying{{"reached", reached}, {"unwilling", reached}, {"Can't contact", untrusted}})
		_, way := w.way(url)
		path, _, _ := strings.Cut(way.Trust, ",")
		want := reached
		if trusts, there := roots[path]; !way.NoCheck && (!there || trusts == s.byOther || s.wrongName) {
			want = untrusted
		}
		counts[have]++
		if have != want {
			t.Errorf("seed %d, world %d: ldapsearch: %q, %s; by its settings: %s\n%v\n%+v\n%+v", seed, n, have, strings.TrimSpace(out),
				want, w.env[2:], way, s)
		}
	}
	t.Logf("%d worlds: %v", worlds, counts)
}

func readSome(c net.Conn) bool {
	_, err := c.Read(make([]byte, 4096))
	return err == nil
}
