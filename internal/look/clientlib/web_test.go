package clientlib

import (
	"testing"

	"uakari/internal/endpoint"
)

// TestWebPrograms is which roots a program of the web goes by, and whether it checks at all.
func TestWebPrograms(t *testing.T) {
	for _, c := range []struct {
		program string
		env     map[string]string
		files   map[string]string // below the home
		trust   string
		noCheck bool
	}{
		{"curl", map[string]string{"CURL_CA_BUNDLE": "/b.pem", "SSL_CERT_FILE": "/s.pem"}, nil, "/b.pem", false},
		{"curl", map[string]string{"CURL_CA_BUNDLE": "/b.pem"}, map[string]string{".curlrc": "cacert = /c.pem\n"},
			"/c.pem", false},
		{"curl", nil, map[string]string{".curlrc": "-k\n"}, "", true},
		{"wget", map[string]string{"CURL_CA_BUNDLE": "/b.pem"}, map[string]string{".curlrc": "-k\n"}, "", false},
		{"wget", nil, map[string]string{".wgetrc": "check_certificate = off\n"}, "", true},
		{"wget", nil, map[string]string{".wgetrc": "check_certificate = on\nca-certificate = /w.pem\n"},
			"/w.pem", false},
		{"git", map[string]string{"GIT_SSL_NO_VERIFY": "1"}, nil, "", true},
		{"git", nil, map[string]string{".gitconfig": "[http]\n\tsslVerify = false\n"}, "", true},
		{"git", nil, map[string]string{".gitconfig": "[http]\n\tsslVerify = true\n\tsslCAInfo = /g.pem\n"},
			"/g.pem", false},
		{"python", map[string]string{"REQUESTS_CA_BUNDLE": "/p.pem"}, nil, "/p.pem", false},
		{"", map[string]string{"CURL_CA_BUNDLE": "/b.pem"}, map[string]string{".curlrc": "-k\n"}, "", false},
	} {
		w := &world{t: t, home: t.TempDir()}
		w.env = []string{"HOME=" + w.home}
		for name, value := range c.env {
			w.set(name, value)
		}
		for name, text := range c.files {
			w.file(name, text)
		}
		e, err := endpoint.Parse("https://tidebook.varzea.example/")
		if err != nil {
			t.Fatal(err)
		}
		w.within(func() {
			if way, _ := For(e, c.program); way.Trust != c.trust || way.NoCheck != c.noCheck {
				t.Errorf("%s %v %v: trust %q, no check %v", c.program, c.env, c.files, way.Trust, way.NoCheck)
			}
		})
	}
}
