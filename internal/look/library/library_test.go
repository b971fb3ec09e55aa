package library

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestChoose evaluates lists of suites.
func TestChoose(t *testing.T) {
	names := map[uint16]string{}
	for _, s := range suites() {
		for w := range s.words {
			if strings.Contains(w, "-") {
				names[s.code] = w
			}
		}
	}
	for text, want := range map[string]string{
		"ECDHE-ECDSA-AES128-GCM-SHA256":               "ECDHE-ECDSA-AES128-GCM-SHA256",
		"ECDHE+CHACHA20":                              "ECDHE-RSA-CHACHA20-POLY1305 ECDHE-ECDSA-CHACHA20-POLY1305",
		"kRSA+AES128:!SHA:!SHA256:!AESCCM@SECLEVEL=1": "AES128-GCM-SHA256",
		"ALL:!ALL:ALL":                                "",
		"aECDSA+AESGCM:-AES256:+AES128":               "ECDHE-ECDSA-AES128-GCM-SHA256",
		"PSK:RC4":                                     "",
		"TLS_AES_128_GCM_SHA256":                      "",
	} {
		codes, _, err := choose(text)
		var got []string
		for _, c := range codes {
			got = append(got, names[c])
		}
		slices.Sort(got)
		wanted := strings.Fields(want)
		slices.Sort(wanted)
		if err != nil || !slices.Equal(got, wanted) {
			t.Errorf("%s: %q, %v", text, got, err)
		}
	}
	for _, text := range []string{"FANCY", "HIGH:!FANCY", "ALL@SECLEVEL=9"} {
		if codes, _, err := choose(text); err == nil {
			t.Errorf("%s: %v", text, codes)
		}
	}
	if codes, level, err := choose("DEFAULT@SECLEVEL=2"); err != nil || level != 2 || len(codes) != 27 {
		t.Errorf("the default: %d, level %d, %v", len(codes), level, err)
	}
	if codes, _, err := choose("DEFAULT"); err != nil || len(atLevel(codes, 3)) != 21 || len(atLevel(codes, 4)) != 12 {
		t.Errorf("the default at higher levels: %d, %d, %v", len(atLevel(codes, 3)), len(atLevel(codes, 4)), err)
	}
}

// TestChooseByOpenSSL lets OpenSSL itself say what lists choose.
func TestChooseByOpenSSL(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("needs openssl: apt-get install openssl")
	}
	for _, text := range []string{"DEFAULT", "ALL", "HIGH:!aNULL", "ECDHE+AESGCM:DHE+CHACHA20", "ALL:!kRSA:!DSS",
		"aRSA+SHA:-AES256", "HIGH:!CAMELLIA:!ARIA:@SECLEVEL=0", "EECDH+ECDSA+AES", "kEDH:!aNULL:!AESCCM8",
		"TLSv1.2+aRSA", "COMPLEMENTOFALL"} {
		out, err := exec.Command(openssl, "ciphers", "-V", text+":@SECLEVEL=0").Output()
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		var want []string
		for line := range strings.Lines(string(out)) {
			if f := strings.Fields(line); len(f) > 3 && f[3] != "TLSv1.3" && !strings.Contains(line, "PSK") &&
				!strings.Contains(line, "SRP") {
				want = append(want, f[2])
			}
		}
		codes, _, err := choose(text)
		var got []string
		for _, s := range suites() {
			if slices.Contains(codes, s.code) {
				for w := range s.words {
					if strings.Contains(w, "-") {
						got = append(got, w)
					}
				}
			}
		}
		slices.Sort(got)
		slices.Sort(want)
		if err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: %v\n got %q\nwant %q", text, err, got, want)
		}
	}
}

// TestSettings is settings of libraries, with what they include.
func TestSettings(t *testing.T) {
	t.Setenv("OPENSSL_CONF", "")
	const head = "openssl_conf = all\n[all]\nssl_conf = ssl\n[ssl]\nsystem_default = every\n[every]\n"
	for name, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"none": {nil, "OpenSSL 3 TLS 1.2  level 1 27 suites"},
		"none, on Debian": {map[string]string{"/etc/os-release": "ID=debian\n"},
			"OpenSSL 3 TLS 1.2  level 2 27 suites"},
		"old ones let in": {map[string]string{"/etc/ssl/openssl.cnf": head +
			"MinProtocol = TLSv1\nCipherString = DEFAULT:@SECLEVEL=0\n"}, "OpenSSL 3 TLS 1.0  level 0 27 suites"},
		"the newest only": {map[string]string{"/etc/ssl/openssl.cnf": head +
			"MinProtocol = TLSv1.3 # since the audit\n"}, "OpenSSL 3 TLS 1.3  level 1 27 suites"},
		"included, with a prefix": {map[string]string{"/etc/pki/tls/openssl.cnf": head +
			".include = /etc/policy.config\n", "/etc/policy.config": "CipherString = " +
			"@SECLEVEL=2:kEECDH:-CAMELLIA:-ARIA:-AESCCM:-aNULL:-NULL\nTLS.MaxProtocol = TLSv1.2\n"},
			"OpenSSL 3 TLS 1.2 TLS 1.2 level 2 14 suites"},
		"a word that is not known": {map[string]string{"/etc/ssl/openssl.cnf": head + "CipherString = FANCY\n"},
			"OpenSSL 3 TLS 1.2  level 1 0 suites CipherString: \"FANCY\" is not known here"},
		"no defaults named": {map[string]string{"/etc/ssl/openssl.cnf": "[every]\nMinProtocol = TLSv1.3\n"},
			"OpenSSL 3 TLS 1.2  level 1 27 suites"},
	} {
		root := t.TempDir()
		put := func(path, text string) {
			if err := os.MkdirAll(filepath.Dir(root+path), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(root+path, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		put("/usr/lib64/libssl.so.3", "")
		for path, text := range c.files {
			put(path, text)
		}
		l := Root(root).Read("")
		got := strings.TrimSpace(
			strings.Join(
				[]string{l.Name, l.Min, l.Max, "level", fmt.Sprint(l.Level), fmt.Sprint(len(l.Suites)), "suites",
					l.Unread},
				" ",
			),
		)
		if got != c.want {
			t.Errorf("%s:\n got %q\nwant %q", name, got, c.want)
		}
	}
	root := t.TempDir()
	if l := Root(root).Read(""); l.Name != "" || l.Level != -1 {
		t.Errorf("no library at all: %+v", l)
	}
}

// TestPrograms finds the library of programs that are here.
func TestPrograms(t *testing.T) {
	for program, want := range map[string]string{"openssl": "OpenSSL 3", "go": "Go", "gnutls-cli": "GnuTLS"} {
		if _, err := exec.LookPath(program); err != nil {
			continue
		}
		if l := Root("").Read(program); l.Name != want || !l.Sure {
			t.Errorf("%s: %+v", program, l)
		}
	}
	if l := Root("").Read("no-such-program"); l.Name != "" || l.Sure {
		t.Errorf("%+v", l)
	}
}
