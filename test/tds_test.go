package test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"database/sql"
	"fmt"
	"net"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	_ "github.com/microsoft/go-mssqldb"

	"uakari/internal/demo"
	"uakari/internal/trail"
)

// sqlServer serves the demo's SQL server on loopback, and counts logins.
func sqlServer(
	t *testing.T,
	config *tls.Config,
	judge func(account, secret, database string) (uint32, string),
	logins *atomic.Int32,
) (port int) {
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
				demo.ServeSQL(c, config, func(a, s, d string) (uint32, string) {
					logins.Add(1)
					return judge(a, s, d)
				})
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

// ledgerAccounts is the accounts of the ledger's database.
func ledgerAccounts(account, secret, database string) (uint32, string) {
	switch {
	case account == "locked":
		return 18486, "Login failed for user 'locked' because the account is currently locked out."
	case account != "gauge" || secret != "canary-7f3a":
		return 18456, "Login failed for user '" + account + "'."
	case database != "" && database != "tides":
		return 4060, `Cannot open database "` + database + `" requested by the login. The login failed.`
	}
	return 0, ""
}

// TestTDS traces SQL servers of each kind of encryption, and tries accounts of
// each kind once.
func TestTDS(t *testing.T) {
	m := newMaker(t)
	root := write(t, filepath.Join(m.dir, "root.pem"), pemOf(m.cert))
	leaf, key := m.sign(
		&x509.Certificate{Subject: pkix.Name{CommonName: "ledger"}, DNSNames: []string{"localhost"}},
		m.cert,
		m.key,
	)
	pair, err := tls.X509KeyPair([]byte(pemOf(leaf)), []byte(keyPEM(t, key)))
	if err != nil {
		t.Fatal(err)
	}
	offers, insists := &tls.Config{
		Certificates: []tls.Certificate{pair},
	}, &tls.Config{
		Certificates: []tls.Certificate{pair},
		MinVersion:   tls.VersionTLS12,
	}
	right, wrong := write(
		t,
		filepath.Join(m.dir, "right"),
		"canary-7f3a\n",
	), write(
		t,
		filepath.Join(m.dir, "wrong"),
		"canary-1111\n",
	)
	for _, c := range []struct {
		name, endpoint string
		config         *tls.Config
		account        string
		secret         string
		more           []string
		want           []string
		outcome        trail.Outcome
		tries          int32
	}{
		{"nobody signs in", "/?encrypt=mandatory", offers, "", "", nil, nil, trail.OutcomeClear, 0},
		{"encrypted and let in", "/tides?encrypt=mandatory", offers, "gauge", right, nil, nil, trail.OutcomeClear, 1},
		{"a server that insists", "/tides?encrypt=mandatory", insists, "gauge", right, nil, nil, trail.OutcomeClear,
			1},
		{"a server that insists, a client that does not", "/?encrypt=disable", insists, "", "", nil,
			[]string{"settings/wrong-security proven"}, trail.OutcomeFault, 0},
		{"a server that cannot, a client that insists", "/?encrypt=mandatory", nil, "", "", nil,
			[]string{"certs/server-speaks-plain proven"}, trail.OutcomeFault, 0},
		{"in the clear where it may be", "/?encrypt=disable", nil, "gauge", right, []string{"--in-the-clear"}, nil,
			trail.OutcomeClear, 1},
		{"in the clear where it may not be", "/?encrypt=disable", nil, "gauge", right, nil, nil, trail.OutcomeUnsure,
			0},
		{"a wrong secret", "/?encrypt=mandatory", offers, "gauge", wrong, nil, []string{"login/rejected likely"},
			trail.OutcomeFault, 1},
		{"a locked account", "/?encrypt=mandatory", offers, "locked", right, nil, []string{"login/locked proven"},
			trail.OutcomeFault, 1},
		{"no such database", "/floods?encrypt=mandatory", offers, "gauge", right, nil,
			[]string{"login/no-such-resource likely"}, trail.OutcomeFault, 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			var tries atomic.Int32
			port := sqlServer(t, c.config, ledgerAccounts, &tries)
			args := append([]string{"--trust", root, fmt.Sprintf("mssql://localhost:%d%s", port, c.endpoint)},
				c.more...)
			if c.account != "" {
				args = append(args, "--user", c.account, "--secret", "file:"+c.secret)
			}
			judged := traced(t, nil, args...)
			expect(t, judged, c.want...)
			if judged.Outcome != c.outcome || tries.Load() != c.tries || strings.Contains(dump(judged), "canary") {
				t.Errorf("outcome %s, %d tries\n%s", judged.Outcome, tries.Load(), dump(judged))
			}
		})
	}
	for _, c := range []struct {
		config *tls.Config
		mode   string // of a client
		lib    string
	}{{offers, "require", "true"}, {nil, "off", "disable"}, {insists, "request", "false"}} {
		t.Run("other clients, encryption "+c.mode, func(t *testing.T) {
			var tries atomic.Int32
			port := sqlServer(t, c.config, ledgerAccounts, &tries)
			for secret, works := range map[string]bool{"canary-7f3a": true, "canary-1111": false} {
				db, err := sql.Open(
					"sqlserver",
					fmt.Sprintf(
						"sqlserver://gauge:%s@localhost:%d?database=tides&encrypt=%s&TrustServerCertificate=true",
						secret,
						port,
						c.lib,
					),
				)
				if err != nil {
					t.Fatal(err)
				}
				ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
				if err := db.PingContext(ctx); (err == nil) != works {
					t.Errorf("the library with %s: %v", secret, err)
				}
				cancel()
				db.Close()
				tsql := needs(t, "freetds-bin", "/usr/bin/tsql")[0]
				conf := write(
					t,
					filepath.Join(t.TempDir(), "freetds.conf"),
					fmt.Sprintf("[ledger]\nhost = 127.0.0.1\nport = %d\ntds version = 7.4\nencryption = %s\n", port,
						c.mode),
				)
				cmd := exec.Command(tsql, "-S", "ledger", "-U", "gauge", "-P", secret, "-D", "tides")
				cmd.Env, cmd.Stdin = append(cmd.Environ(), "FREETDSCONF="+conf), strings.NewReader("exit\n")
				if out, err := cmd.CombinedOutput(); (err == nil && !strings.Contains(string(out), "18456")) != works {
					t.Errorf("the client with %s: %v\n%s", secret, err, out)
				}
			}
		})
	}
}
