package programfiles

import "testing"

// TestDemands is whom settings turn away by TLS itself: clients without a certificate, and
// those that know only newer versions.
func TestDemands(t *testing.T) {
	const begin = "server {\nlisten 443 ssl;\nssl_certificate a.pem;\nssl_certificate_key a.key;\n" +
		"ssl_client_certificate c.pem;\n"
	for _, c := range []struct {
		text     string
		demands  bool
		versions string
	}{
		{begin + "ssl_verify_client on;\n}\n", true, ""},
		{begin + "ssl_verify_client optional;\n}\n", false, ""},
		{begin + "ssl_protocols TLSv1 TLSv1.1;\n}\n", false, "TLSv1 TLSv1.1"},
		{"server {\nlisten 80;\nssl_protocols TLSv1;\n}\n" + begin + "}\n", false, ""},
		{"server {\nssl_protocols TLSv1;\nlisten 80;\n}\n" + begin + "}\n", false, ""}, // before it says what it is
	} {
		pairs, stores, outer := certSetting{Shipped("nginx")}.pairs(c.text, "/etc/nginx/nginx.conf", "/etc/nginx")
		if len(pairs) != 1 || len(stores) != 1 || stores[0].Demands != c.demands || pairs[0].Versions != c.versions ||
			outer != "" {
			t.Errorf("%q: %+v, %+v, %q", c.text, pairs, stores, outer)
		}
	}
	_, _, outer := certSetting{Shipped("nginx")}.pairs(
		"http {\nssl_protocols TLSv1 TLSv1.1;\n}\n", "/etc/nginx/nginx.conf", "/etc/nginx")
	if outer != "TLSv1 TLSv1.1" {
		t.Errorf("of all servers: %q", outer)
	}
	_, stores, _ := certSetting{Shipped("haproxy")}.pairs(
		"frontend tide\n bind :443 ssl crt /etc/a.pem ca-file /etc/c.pem verify required\n",
		"/etc/haproxy/haproxy.cfg", "/etc/haproxy")
	if len(stores) != 1 || !stores[0].Demands {
		t.Errorf("%+v", stores)
	}
}
