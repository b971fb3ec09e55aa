package test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestAsTheClientWould gives an account settings for its client programs, and lets the real
// program and a trace try real servers with them: both get through, or neither.
func TestAsTheClientWould(t *testing.T) {
	m, other := newMaker(t), newMaker(t)
	roots := map[string]string{
		"right": write(t, filepath.Join(m.dir, "right.pem"), pemOf(m.cert)),
		"wrong": write(t, filepath.Join(m.dir, "wrong.pem"), pemOf(other.cert)),
	}
	type try struct {
		name  string
		env   []string
		files map[string]string // below the home
		want  string            // "": it gets through
	}
	for _, s := range []struct {
		server, client, pkg string
		words               func(port int) []string
		tries               []try
	}{
		{"PostgreSQL", "/usr/bin/psql", "postgresql-client", func(port int) []string {
			return []string{"-w", "-U", "postgres", "-c", "select 1",
				fmt.Sprintf("postgres://localhost:%d/postgres", port)}
		}, []try{
			{"nothing is set", nil, nil, ""},
			{"the whole check, by the right roots",
				[]string{"PGSSLMODE=verify-full", "PGSSLROOTCERT=" + roots["right"]}, nil, ""},
			{"by the wrong roots", []string{"PGSSLMODE=verify-full", "PGSSLROOTCERT=" + roots["wrong"]}, nil,
				"certs/unknown-issuer proven"},
			{"roots in their own place", []string{"PGSSLMODE=require"},
				map[string]string{".postgresql/root.crt": pemOf(other.cert)}, "certs/unknown-issuer proven"},
			{"no roots", []string{"PGSSLMODE=verify-ca"}, nil, "certs/roots-unreadable proven"},
			{"by a service", []string{"PGSERVICE=tides"},
				map[string]string{".pg_service.conf": "[tides]\nsslmode=verify-ca\nsslrootcert=" +
					roots["wrong"] + "\n"},
				"certs/unknown-issuer proven"},
		}},
		{"MariaDB", "/usr/bin/mariadb", "mariadb-client", func(port int) []string {
			return []string{"-h", "localhost", "--protocol=tcp", "-P", fmt.Sprint(port), "-u", "root",
				"-e", "select 1"}
		}, []try{
			{"the right roots", nil, map[string]string{".my.cnf": "[client]\nssl-ca=" + roots["right"] +
				"\nssl-verify-server-cert\n"}, ""},
			{"the wrong roots", nil, map[string]string{".my.cnf": "[client]\nssl-ca=" + roots["wrong"] + "\n"},
				"certs/unknown-issuer proven"},
			{"the system's roots", nil, map[string]string{".my.cnf": "[client-mariadb]\nssl-verify-server-cert\n"},
				"certs/unknown-issuer proven"},
		}},
	} {
		t.Run(s.server, func(t *testing.T) {
			t.Parallel()
			server := tlsServers[0]
			for _, each := range tlsServers {
				if each.name == s.server {
					server = each
				}
			}
			programs := needs(t, server.pkg, server.programs...)
			client := needs(t, s.pkg, s.client)[0]
			dir, err := os.MkdirTemp("/var/tmp", "uakari-way")
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { os.RemoveAll(dir) })
			if err := os.Chmod(dir, 0o755); err != nil {
				t.Fatal(err)
			}
			cert, key := m.sign(&x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"},
				DNSNames: []string{"localhost"}}, m.cert, m.key)
			write(t, filepath.Join(dir, "cert.pem"), pemOf(cert, m.cert))
			if err := os.Chmod(write(t, filepath.Join(dir, "key.pem"), keyPEM(t, key)), 0o600); err != nil {
				t.Fatal(err)
			}
			port := freePort(t)
			server.start(t, programs, dir, port)
			hosts := write(t, filepath.Join(dir, "hosts"), "127.0.0.1 localhost\n")
			for _, c := range s.tries {
				home := t.TempDir()
				for name, text := range c.files {
					path := filepath.Join(home, name)
					if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
						t.Fatal(err)
					}
					if err := os.Chmod(write(t, path, text), 0o600); err != nil {
						t.Fatal(err)
					}
				}
				env := append([]string{"env", "HOME=" + home}, c.env...)
				words := append(append([]string{}, env[1:]...), append([]string{client}, s.words(port)...)...)
				out, err := exec.Command("env", words...).CombinedOutput()
				if (err == nil) != (c.want == "") {
					t.Errorf("%s: %s itself: %v: %s", c.name, client, err, out)
				}
				path := map[string]string{"postgres": "/postgres", "mysql": "/"}[server.scheme]
				judged := traced(t, env, "--hosts", hosts,
					fmt.Sprintf("%s://localhost:%d%s", server.scheme, port, path))
				if c.want == "" {
					if judged.Reached != trail.Yes {
						t.Errorf("%s: it is not reached\n%s", c.name, dump(judged))
					}
					continue
				}
				if judged.Reached == trail.Yes || !strings.Contains(dump(judged), c.want+" ") {
					t.Errorf("%s: reached %s, expected %s\n%s", c.name, judged.Reached, c.want, dump(judged))
				}
				if judged.Way == nil || len(judged.Way.Settings) == 0 {
					t.Errorf("%s: it does not say by which settings: %+v", c.name, judged.Way)
				}
			}
		})
	}
}
