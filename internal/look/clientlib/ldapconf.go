package clientlib

import (
	"net/url"
	"os"
	"slices"
	"strings"

	"uakari/internal/fact"
)

// ldapNames is what decides of the options of OpenLDAP's clients (ldap.conf(5)).
var ldapNames = []string{
	"URI", "BASE", "HOST", "PORT", "BINDDN", "SASL_MECH", "SASL_REALM", "TLS_CACERT", "TLS_CACERTDIR", "TLS_CERT",
	"TLS_KEY",
	"TLS_REQCERT", "TLS_REQSAN", "TLS_CRLFILE", "TLS_PROTOCOL_MIN", "NETWORK_TIMEOUT", "TIMEOUT", "SASL_SECPROPS",
}

// ldapConf reads ldap.conf(5): the environment, the user's files, the system's; what is
// read later wins, and the environment is read last.
func ldapConf(url.Values, string) fact.ClientWay {
	way := fact.ClientWay{By: "programs of OpenLDAP"}
	if os.Getenv("LDAPNOINIT") != "" {
		return way
	}
	var f found
	for _, name := range ldapNames {
		if value := os.Getenv("LDAP" + name); value != "" {
			f.say(name, value, environment("LDAP"+name))
		}
	}
	system := "/etc/ldap/ldap.conf"
	if !isFile(system) {
		system = "/etc/openldap/ldap.conf"
	}
	paths := []string{system, home("ldaprc"), home(".ldaprc"), "ldaprc"}
	if own := os.Getenv("LDAPCONF"); own != "" {
		paths = append(paths, own)
	}
	if own := os.Getenv("LDAPRC"); own != "" {
		paths = append(paths, home(own), home("."+own), own)
	}
	for _, path := range slices.Backward(paths) {
		for _, l := range slices.Backward(lines(path)) {
			fields := strings.Fields(l.text)
			if len(fields) < 2 || strings.HasPrefix(l.text, "#") {
				continue
			}
			if name := strings.ToUpper(fields[0]); slices.Contains(ldapNames, name) {
				f.say(name, strings.TrimSpace(l.text[len(fields[0]):]), l.at)
			}
		}
	}
	way.Settings = f.list
	switch strings.ToLower(f.get("TLS_REQCERT")) {
	case "never", "allow":
		way.NoCheck = true
	}
	way.Trust = joined(f.get("TLS_CACERT"), f.get("TLS_CRLFILE"))
	if way.Trust == "" {
		way.Trust = f.get("TLS_CACERTDIR")
	}
	if cert, key := f.get("TLS_CERT"), f.get("TLS_KEY"); isFile(cert) && isFile(key) {
		way.Presented = cert + "," + key
	}
	return way
}
