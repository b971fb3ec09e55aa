package clientlib

import (
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uakari/internal/fact"
)

// webVariables is what programs of the web read of the environment, beside proxies.
var webVariables = []struct{ name, variable string }{
	{"roots of OpenSSL programs", "SSL_CERT_FILE"}, {"folder of roots of OpenSSL programs", "SSL_CERT_DIR"},
	{"roots of curl", "CURL_CA_BUNDLE"}, {"roots of git", "GIT_SSL_CAINFO"},
	{"git checks nothing", "GIT_SSL_NO_VERIFY"},
	{"roots of Python's requests", "REQUESTS_CA_BUNDLE"}, {"more roots of Node", "NODE_EXTRA_CA_CERTS"},
	{"Node checks nothing", "NODE_TLS_REJECT_UNAUTHORIZED"}, {"settings of OpenSSL", "OPENSSL_CONF"},
}

// Of the options of curl and wget and the settings of git, those that decide where a
// connection goes and what is checked.
var (
	curlOptions = []string{"proxy", "noproxy", "cacert", "capath", "insecure", "resolve", "connect-to", "tlsv1.2",
		"tlsv1.3", "tls-max", "ciphers", "cert", "interface", "ipv4", "ipv6", "proxytunnel", "preproxy", "socks5",
		"socks5-hostname"}
	wgetOptions = []string{"http_proxy", "https_proxy", "no_proxy", "use_proxy", "check_certificate", "ca_certificate",
		"ca_directory", "certificate", "inet4_only", "inet6_only", "prefer_family", "secure_protocol"}
	gitSettings = []string{"proxy", "sslverify", "sslcainfo", "sslcapath", "sslcert", "sslversion", "proxysslcainfo"}
)

// webPrograms reads the settings of curl, wget and git, and the variables by which programs
// of the web choose their roots. Unless the client is said to be one of them, none decides.
func webPrograms(_ url.Values, program string) fact.ClientWay {
	var f found
	for _, v := range webVariables {
		if value := os.Getenv(v.variable); value != "" {
			f.say(v.name, value, environment(v.variable))
		}
	}
	for _, p := range Proxies("") {
		f.say(p.Name, p.Value, p.At)
	}
	for _, o := range slices.Concat(curlSays(), wgetSays(), gitSays()) {
		if !strings.HasSuffix(o.Name, "proxy") {
			f.say(o.Name, o.Value, o.At)
		}
	}
	way := fact.ClientWay{By: "programs of the web", Settings: f.list}
	check, ok := webChecks[program]
	if !ok {
		return way
	}
	way.By = program
	for _, name := range check.roots {
		if way.Trust = f.get(name); way.Trust != "" {
			break
		}
	}
	for _, n := range check.nothing {
		for _, s := range f.list {
			off := slices.Contains([]string{"off", "false", "0"}, strings.ToLower(s.Value))
			way.NoCheck = way.NoCheck || s.Name == n.name && off == n.whenOff
		}
	}
	return way
}

// webCheck is by which settings a program chooses its roots, the first that is said, and by
// which it checks nothing.
type webCheck struct {
	roots   []string
	nothing []switched
}

// switched is a setting that decides where it is on or, with whenOff, where it is off.
type switched struct {
	name    string
	whenOff bool
}

var webChecks = map[string]webCheck{
	"curl": {[]string{"curl cacert", "roots of curl", "roots of OpenSSL programs"},
		[]switched{{"curl insecure", false}}},
	"wget": {[]string{"wget ca_certificate", "roots of OpenSSL programs"},
		[]switched{{"wget check_certificate", true}}},
	"git": {[]string{"roots of git", "git sslcainfo"},
		[]switched{{"git checks nothing", false}, {"git sslverify", true}}},
	"python": {[]string{"roots of Python's requests", "roots of curl", "roots of OpenSSL programs"}, nil},
}

// Known is the programs of the web whose settings are known.
func Known() []string { return slices.Sorted(maps.Keys(webChecks)) }

// Proxies is the proxies that curl, wget and git are set to in their files, for a scheme or,
// for "", any; the names are the programs'. Accounts in them are left out.
func Proxies(scheme string) (list []fact.ClientSetting) {
	for _, o := range slices.Concat(curlSays(), wgetSays(), gitSays()) {
		program, option, _ := strings.Cut(o.Name, " ")
		of, all := "", option == "proxy"
		if option == "http_proxy" || option == "https_proxy" {
			of = strings.TrimSuffix(option, "_proxy")
		}
		if !all && (of == "" || scheme != "" && scheme != of) {
			continue
		}
		text := o.Value
		if !strings.Contains(text, "://") {
			text = "http://" + text
		}
		if u, err := url.Parse(text); err == nil && u.Host != "" {
			u.User = nil
			list = append(list, fact.ClientSetting{Name: program + " proxy", Value: u.String(), At: o.At})
		}
	}
	return list
}

// curlSays is the options in the first .curlrc that is there (curl(1), --config).
func curlSays() (list []fact.ClientSetting) {
	for _, path := range []string{
		inFolder(os.Getenv("CURL_HOME"), ".curlrc"), inFolder(os.Getenv("XDG_CONFIG_HOME"), ".curlrc"),
		home(".curlrc"), home(".config", ".curlrc"),
	} {
		if !isFile(path) {
			continue
		}
		for _, l := range lines(path) {
			name, value := l.text, ""
			if at := strings.IndexAny(l.text, " \t=:"); at >= 0 {
				name, value = l.text[:at], strings.Trim(l.text[at:], " \t=:")
			}
			if name = longOption(strings.TrimLeft(name, "-")); slices.Contains(curlOptions, name) {
				set := fact.ClientSetting{Name: "curl " + name, Value: strings.Trim(value, `"`), At: l.at}
				list = append(list, set)
			}
		}
		break
	}
	return list
}

// longOptions is options by their short names.
var longOptions = map[string]string{
	"x": "proxy", "k": "insecure", "E": "cert", "4": "ipv4", "6": "ipv6", "p": "proxytunnel",
}

func longOption(name string) string {
	if long := longOptions[name]; long != "" {
		return long
	}
	return name
}

// wgetSays is the commands of the system's file, and of the user's, which is read later
// (Wget manual, "Wgetrc Location").
func wgetSays() (list []fact.ClientSetting) {
	own := os.Getenv("WGETRC")
	if own == "" {
		own = home(".wgetrc")
	}
	for _, path := range []string{own, "/etc/wgetrc"} {
		for _, l := range lines(path) {
			name, value, ok := strings.Cut(l.text, "=")
			name = strings.ReplaceAll(strings.ToLower(strings.TrimSpace(name)), "-", "_")
			if ok && slices.Contains(wgetOptions, name) {
				set := fact.ClientSetting{Name: "wget " + name, Value: strings.TrimSpace(value), At: l.at}
				list = append(list, set)
			}
		}
	}
	return list
}

// gitSays is the section http of git's files (git-config(1)).
func gitSays() (list []fact.ClientSetting) {
	own := os.Getenv("GIT_CONFIG_GLOBAL")
	paths := []string{own}
	if own == "" {
		xdg := inFolder(os.Getenv("XDG_CONFIG_HOME"), filepath.Join("git", "config"))
		if xdg == "" {
			xdg = home(".config", "git", "config")
		}
		paths = []string{home(".gitconfig"), xdg}
	}
	for _, path := range append(paths, "/etc/gitconfig") {
		section := ""
		for _, l := range lines(path) {
			if strings.HasPrefix(l.text, "[") {
				section = strings.ToLower(strings.Trim(l.text, "[] "))
				continue
			}
			name, value, ok := strings.Cut(l.text, "=")
			name = strings.ToLower(strings.TrimSpace(name))
			if ok && section == "http" && slices.Contains(gitSettings, name) {
				set := fact.ClientSetting{Name: "git " + name, Value: strings.Trim(value, " \t\""), At: l.at}
				list = append(list, set)
			}
		}
	}
	return list
}

// inFolder is a path below a folder; "" without one.
func inFolder(folder, name string) string {
	if folder == "" {
		return ""
	}
	return filepath.Join(folder, name)
}
