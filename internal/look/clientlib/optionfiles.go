package clientlib

import (
	"cmp"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"uakari/internal/fact"
)

// optionGroups is the groups of option files that clients read.
var optionGroups = []string{"[client]", "[client-server]", "[client-mariadb]", "[mysql]", "[mariadb-client]"}

// optionNames is what decides of their options, by the names that are the same.
var optionNames = map[string]string{
	"host": "host", "port": "port", "user": "user", "protocol": "protocol", "socket": "socket", "database": "database",
	"ssl": "ssl", "ssl-mode": "ssl-mode", "ssl-ca": "ssl-ca", "ssl-capath": "ssl-capath", "ssl-crl": "ssl-crl",
	"ssl-cert": "ssl-cert", "ssl-key": "ssl-key", "ssl-verify-server-cert": "ssl-verify-server-cert",
	"tls-version": "tls-version", "ssl-cipher": "ssl-cipher", "default-auth": "default-auth",
}

// mostIncluded bounds files that include each other.
const mostIncluded = 100

// optionFiles reads the option files in their places ("Configuring MariaDB with Option
// Files", "Using Option Files"): of values of one name the last one that is read wins.
func optionFiles(said url.Values, _ string) fact.ClientWay {
	var all []option
	left := mostIncluded
	for _, path := range []string{"/etc/my.cnf", "/etc/mysql/my.cnf", home(".my.cnf")} {
		all = append(all, optionsOf(path, &left)...)
	}
	var f found
	for _, name := range []string{"ssl-mode"} {
		if said.Has(name) {
			f.say(name, said.Get(name), "the endpoint")
		}
	}
	for _, o := range slices.Backward(all) {
		f.say(o.name, o.value, o.at)
	}
	for _, v := range []struct{ option, variable string }{{"host", "MYSQL_HOST"}, {"port", "MYSQL_TCP_PORT"}} {
		if value := os.Getenv(v.variable); value != "" {
			f.say(v.option, value, environment(v.variable))
		}
	}
	way := fact.ClientWay{By: "programs of MySQL and MariaDB", Mode: strings.ToLower(f.get("ssl-mode")),
		Settings: f.list}
	off := false // which drops the roots too
	if way.Mode == "" {
		way.Mode, way.Lax, off = modeOf(all, &f)
	}
	if strings.HasPrefix(way.Mode, "verify_") && !off {
		way.Trust = joined(cmp.Or(f.get("ssl-ca"), f.get("ssl-capath")), f.get("ssl-crl"))
	}
	if cert, key := f.get("ssl-cert"), f.get("ssl-key"); isFile(cert) && isFile(key) && way.Mode != "disabled" {
		way.Presented = cert + "," + key
	}
	return way
}

// switchesOn is the options that switch TLS on by being there. One that comes later may switch
// it off again.
var switchesOn = []string{"ssl-ca", "ssl-capath", "ssl-cert", "ssl-key", "ssl-cipher", "ssl-crl"}

// modeOf is how clients encrypt by options without a mode, as those of MariaDB: with roots,
// they check the chain; with ssl-verify-server-cert the name too, and then they go without
// TLS in no case, whatever else is said.
func modeOf(all []option, f *found) (mode string, lax, off bool) {
	said, on := false, false
	for _, o := range all {
		switch {
		case o.name == "ssl":
			said, on = true, isOn(o.value)
		case slices.Contains(switchesOn, o.name):
			said, on = true, true
		}
	}
	switch {
	case isOn(f.get("ssl-verify-server-cert")):
		mode = "verify_identity"
	case said && !on:
		mode = "disabled"
	case said && (f.get("ssl-ca") != "" || f.get("ssl-capath") != ""):
		mode, lax = "verify_ca", true
	case said:
		mode = "preferred"
	}
	return mode, lax, said && !on
}

func isOn(value string) bool {
	return slices.Contains([]string{"1", "on", "true"}, strings.ToLower(value))
}

// option is one line of an option file.
type option struct{ name, value, at string }

// optionsOf is the options for clients in a file and in those that it includes. A file that
// everybody may write is passed over, as the programs do.
func optionsOf(path string, left *int) (list []option) {
	info, err := os.Stat(path)
	if path == "" || err != nil || runtime.GOOS != "windows" && info.Mode().Perm()&0o002 != 0 || *left == 0 {
		return nil
	}
	*left--
	ours := false
	for _, l := range lines(path) {
		switch word, rest, _ := strings.Cut(l.text, " "); {
		case word == "!include":
			list = append(list, optionsOf(strings.TrimSpace(rest), left)...)
			continue
		case word == "!includedir":
			found, err := filepath.Glob(filepath.Join(strings.TrimSpace(rest), "*.cnf"))
			if err != nil {
				continue // a folder whose name is a pattern
			}
			for _, each := range found {
				list = append(list, optionsOf(each, left)...)
			}
			continue
		case strings.HasPrefix(l.text, "["):
			ours = slices.Contains(optionGroups, strings.ToLower(l.text))
			continue
		case !ours || l.text == "" || strings.ContainsAny(l.text[:1], "#;"):
			continue
		}
		name, value, valued := strings.Cut(l.text, "=")
		name = strings.TrimPrefix(strings.ReplaceAll(strings.ToLower(strings.TrimSpace(name)), "_", "-"), "loose-")
		value, _, _ = strings.Cut(value, " #")
		value = strings.Trim(strings.TrimSpace(value), `'"`)
		if off, is := strings.CutPrefix(name, "skip-"); is || strings.HasPrefix(name, "disable-") {
			if !is {
				off = strings.TrimPrefix(name, "disable-")
			}
			name, value, valued = off, "0", true
		}
		if !valued {
			value = "1"
		}
		if known := optionNames[name]; known != "" {
			list = append(list, option{known, value, l.at})
		}
	}
	return list
}
