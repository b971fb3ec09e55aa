package rules

import (
	"net/netip"
	"testing"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/weigh/scene"
)

// TestAccess is lists that turn the client away, with and without their
// guards.
func TestAccess(t *testing.T) {
	db := "postgres://tidebook.varzea.example/ledger"
	for name, c := range map[string]struct {
		kind, text string
		want       string
	}{
		"nobody is named": {"pg_hba", "local all all peer\nhost all all 10.20.8.0/24 scram-sha-256",
			"rules/not-on-list"},
		"the net is named": {"pg_hba", "host all all 10.20.7.0/24 scram-sha-256", ""},
		"rejected for everyone": {"pg_hba", "host all all 10.20.7.31/32 reject\nhost all all 0.0.0.0/0 md5",
			"rules/not-on-list"},
		"a mask of its own":    {"pg_hba", "host all all 10.20.8.0 255.255.255.0 md5", "rules/not-on-list"},
		"only with encryption": {"pg_hba", "hostssl all all 10.20.7.0/24 md5", "rules/not-on-list"},
		"a line that goes on":  {"pg_hba", "host all all \\\n10.20.7.0/24 md5", ""},
		"a name":               {"pg_hba", "host all all gauge-07.varzea.example md5", ""},
	} {
		a := &fact.Access{
			Files: []fact.AccessFile{{Path: "/etc/postgresql/15/main/pg_hba.conf", Kind: c.kind,
				Lines: linesOf(c.text)}},
		}
		e, err := endpoint.Parse(db)
		if err != nil {
			t.Fatal(err)
		}
		v := scene.New(fact.New(fact.Ask{Endpoint: e}, nil))
		target := fact.Target{
			Name:     e.Host,
			Addr:     netip.MustParseAddr(tidebook),
			Port:     e.Port,
			Scheme:   e.Scheme,
			Security: e.Security,
			Path:     e.Path,
		}
		cause, _, text, _ := hbaJudge(v, &scene.Try{Target: target, Server: "v2"}, a, netip.MustParseAddr(gauge))
		if text == "" {
			cause = ""
		}
		if cause != c.want {
			t.Errorf("%s: %q (%s), want %q", name, cause, text, c.want)
		}
	}
}
