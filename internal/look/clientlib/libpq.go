package clientlib

import (
	"cmp"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"uakari/internal/fact"
)

// postgresVariables is the environment of libpq by the parameter that it stands for
// (documentation of PostgreSQL, "Environment Variables"). Those of secrets are left out.
var postgresVariables = []struct{ parameter, variable string }{
	{"host", "PGHOST"}, {"hostaddr", "PGHOSTADDR"}, {"port", "PGPORT"}, {"dbname", "PGDATABASE"}, {"user", "PGUSER"},
	{"sslmode", "PGSSLMODE"}, {"sslnegotiation", "PGSSLNEGOTIATION"}, {"sslrootcert", "PGSSLROOTCERT"},
	{"sslcrl", "PGSSLCRL"}, {"sslcrldir", "PGSSLCRLDIR"}, {"sslcert", "PGSSLCERT"}, {"sslkey", "PGSSLKEY"},
	{"ssl_min_protocol_version", "PGSSLMINPROTOCOLVERSION"}, {"ssl_max_protocol_version", "PGSSLMAXPROTOCOLVERSION"},
	{"target_session_attrs", "PGTARGETSESSIONATTRS"}, {"channel_binding", "PGCHANNELBINDING"},
	{"gssencmode", "PGGSSENCMODE"}, {"require_auth", "PGREQUIREAUTH"}, {"connect_timeout", "PGCONNECT_TIMEOUT"},
	{"options", "PGOPTIONS"}, {"passfile", "PGPASSFILE"},
}

// libpq reads, in this order, what the endpoint says, the service that is named, the
// environment, and the files that are used where they are there ("Client Connection
// Defaults", "The Connection Service File", "SSL Support").
func libpq(said url.Values, _ string) fact.ClientWay {
	var f found
	for _, v := range postgresVariables {
		if said.Has(v.parameter) {
			f.say(v.parameter, said.Get(v.parameter), "the endpoint")
		}
	}
	if service := cmp.Or(said.Get("service"), os.Getenv("PGSERVICE")); service != "" {
		ofService(&f, service)
	}
	for _, v := range postgresVariables {
		if value := os.Getenv(v.variable); value != "" {
			f.say(v.parameter, value, environment(v.variable))
		}
	}
	if f.get("sslmode") == "" && os.Getenv("PGREQUIRESSL") == "1" {
		f.say("sslmode", "require", environment("PGREQUIRESSL"))
	}
	own := func(name string) string {
		if path := home(".postgresql", name); isFile(path) {
			return path
		}
		return ""
	}
	for _, each := range []struct{ parameter, name string }{
		{"sslrootcert", "root.crt"}, {"sslcrl", "root.crl"}, {"sslcert", "postgresql.crt"},
		{"sslkey", "postgresql.key"},
	} {
		if path := own(each.name); path != "" && f.get(each.parameter) == "" {
			f.say(each.parameter, path, "it is there")
		}
	}
	way := fact.ClientWay{By: "programs of PostgreSQL (libpq)", Mode: f.get("sslmode"), Settings: f.list}
	roots := f.get("sslrootcert")
	switch {
	case roots == "system": // the system's own, and nothing less than the whole check
		way.Mode = "verify-full"
	case way.Mode == "require" && isFile(roots):
		way.Mode = "verify-ca"
		way.Trust = joined(roots, f.get("sslcrl"))
	case strings.HasPrefix(way.Mode, "verify-"):
		// Without a file the library takes none of the system's roots.
		way.Trust = joined(cmp.Or(roots, home(".postgresql", "root.crt")), f.get("sslcrl"))
	}
	if cert, key := f.get("sslcert"), f.get("sslkey"); isFile(cert) && isFile(key) && way.Mode != "disable" {
		way.Presented = cert + "," + key
	}
	return way
}

// ofService reads a service of the user's file, or else of the system's.
func ofService(f *found, service string) {
	for _, path := range []string{
		cmp.Or(os.Getenv("PGSERVICEFILE"), home(".pg_service.conf")),
		filepath.Join(cmp.Or(os.Getenv("PGSYSCONFDIR"), "/etc/postgresql-common"), "pg_service.conf"),
	} {
		ours, seen := false, false
		for _, l := range lines(path) {
			if strings.HasPrefix(l.text, "[") {
				ours = l.text == "["+service+"]"
				seen = seen || ours
				continue
			}
			name, value, ok := strings.Cut(l.text, "=")
			if ours && ok && !strings.HasPrefix(name, "#") && name != "password" {
				f.say(name, value, l.at)
			}
		}
		if seen {
			return
		}
	}
}
