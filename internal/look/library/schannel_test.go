package library

import (
	"testing"

	"uakari/internal/settingsfile"
)

// TestSchannel reads what Windows lets its library speak, as exports of its registry
// have it.
func TestSchannel(t *testing.T) {
	set := func(version, name, text string) settingsfile.RegistryValue {
		return settingsfile.RegistryValue{Path: SchannelKey + `\Protocols\` + version + `\Client`, Name: name,
			Text: text}
	}
	type values = []settingsfile.RegistryValue
	for _, c := range []struct {
		name     string
		values   values
		build    int
		min, max string
	}{
		{"as it comes, of 2019", nil, 17763, "TLS 1.0", "TLS 1.2"},
		{"as it comes, of 2022", nil, 20348, "TLS 1.0", "TLS 1.3"},
		{"as it comes, of 2025", nil, 26100, "TLS 1.2", "TLS 1.3"},
		{"old ones are off", values{set("TLS 1.0", "Enabled", "0"), set("TLS 1.1", "DisabledByDefault", "1")}, 20348,
			"TLS 1.2", "TLS 1.3"},
		{"an old one is on", values{set("TLS 1.1", "Enabled", "4294967295")}, 26100, "TLS 1.1", "TLS 1.3"},
		{"the newest is off", values{set("TLS 1.3", "Enabled", "0")}, 20348, "TLS 1.0", "TLS 1.2"},
		{"of servers", values{{Path: SchannelKey + `\Protocols\TLS 1.0\Server`, Name: "Enabled", Text: "0"}}, 20348,
			"TLS 1.0", "TLS 1.3"},
	} {
		if l := Schannel(c.values, c.build); l.Min != c.min || l.Max != c.max {
			t.Errorf("%s: %s to %s", c.name, l.Min, l.Max)
		}
	}
	off := values{}
	for _, version := range schannelVersions {
		off = append(off, set(version, "Enabled", "0"))
	}
	if l := Schannel(off, 20348); l.Unread == "" {
		t.Errorf("%+v", l)
	}
	l := Schannel(values{{Path: SuitesKey, Name: "Functions",
		Text: "TLS_AES_256_GCM_SHA384,TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256,TLS_OF_NOBODY"}}, 20348)
	if len(l.Suites) != 1 || l.Suites[0] != 0xc02f || len(l.NewSuites) != 1 {
		t.Errorf("%+v", l)
	}
}
