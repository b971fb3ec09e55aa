package tell

import (
	"regexp"
	"strings"
)

// examples is what stands for the places of a remedy where no trace fills them
// in: the made-up world, so that a page reads as one that was traced.
var examples = map[string]string{
	"=fix":            `nft insert rule inet filter input ip saddr 10.20.7.31 tcp dport 443 accept`,
	"container":       `web`,
	"engine":          `podman`,
	"exempts":         `$no_proxy,tidebook.varzea.example`,
	"variable":        `https_proxy`,
	"inside":          `8080`,
	"network":         `harbour`,
	"gone":            `web`,
	"=unfix":          `nft delete rule inet filter input handle 12`,
	"account":         `gauge`,
	"addr":            `10.20.0.14`,
	"address":         `10.20.0.14`,
	"allow":           `tcp 443 from 10.20.7.0/24`,
	"at":              `heron`,
	"authorities":     `Varzea Gauges`,
	"cert":            `/etc/tidebook/tide.crt`,
	"chmod":           `o+x`,
	"clean":           `tidebook.varzea.example`,
	"client":          `gauge-07`,
	"database":        `tides`,
	"endpoint":        `https://tidebook.varzea.example:8443/`,
	"entry":           `10.20.0.0/16`,
	"failed":          `gauge-agent.service`,
	"stale":           `gauge-agent.service`,
	"file":            `/etc/tidebook.yaml`,
	"front":           `heron`,
	"gateway":         `heron`,
	"grant":           `'GRANT SELECT ON tides.levels TO gauge'`,
	"granted":         `'GRANT SELECT ON tides.levels TO gauge'`,
	"hop":             `http://ledger.varzea.example:3000/`,
	"host":            `tidebook.varzea.example`,
	"idle":            `60 s`,
	"issuer":          `Varzea Issuing`,
	"key":             `/etc/tidebook/tide.key`,
	"lasts":           `the same rule in /etc/nftables.conf`,
	"late":            `gauge-07`,
	"layer":           `edge`,
	"level":           `/srv/tides`,
	"limit":           `10s`,
	"line":            `deny 10.20.7.0/24`,
	"link":            `eth0`,
	"listen":          `127.0.0.1`,
	"location":        `https://readings.varzea.example/`,
	"masked":          `tidebook.service`,
	"corrected":       `tidebook.varzea.example`,
	"missing":         `port 8443`,
	"mode":            `700`,
	"more":            `524288`,
	"name":            `tidebook.varzea.example`,
	"needed":          `ledger.service`,
	"now":             `10.20.0.14`,
	"opens":           `port 443 of 10.20.0.14 to 10.20.7.31 alone`,
	"router":          `10.20.7.1`,
	"sources":         `/etc/nsswitch.conf`,
	"order":           `tidebook, then Varzea Issuing`,
	"other":           `perl`,
	"own":             `22`,
	"path":            `/srv/tides/levels`,
	"place":           `/etc/tidebook.yaml:12`,
	"pod":             `harbour/tidebook`,
	"podwords":        `tidebook -n harbour`,
	"port":            `443`,
	"principal":       `HTTP/tidebook.varzea.example`,
	"program":         `tidebook`,
	"proxy":           `http://heron:3128`,
	"range":           `49152-65535`,
	"record":          `_ldap._tcp.varzea.example`,
	"resolver":        `10.20.0.2`,
	"revoke":          `REVOKE SELECT ON tides.levels FROM gauge`,
	"right":           `8443`,
	"name-of-program": `tidebook`,
	"private":         `/etc/tidebook/tide.key`,
	"private-mode":    `0644`,
	"tls":             `https://tidebook.varzea.example:8443`,
	"root":            `Varzea Root`,
	"scheme":          `https`,
	"seen":            `10.20.0.15`,
	"server":          `tidebook`,
	"setting":         `the portal's port`,
	"sheet":           `harbour`,
	"source":          `10.20.7.31`,
	"spoke":           `SSH`,
	"status":          `503`,
	"store":           `/etc/ssl/certs/ca-certificates.crt`,
	"subject":         `tidebook.varzea.example`,
	"took":            `12 s`,
	"transport":       `tcp`,
	"trouble":         `it is older than a day`,
	"ttl":             `300`,
	"unit":            `tidebook.service`,
	"user":            `www-data`,
	"was":             `10.20.0.9`,
	"width":           `16`,
	"works":           `8`,
	"restart":         `gauge-agent.service`,
	"add":             `allow gauge from 10.20.7.31`,
	"agent":           `gauge-agent`,
	"admins":          `admins`,
	"shuts":           `3 (at night)`,
	"one-key":         `portal.port`,
	"one-file":        `gauge.ini`,
	"one-host":        `gauge-07`,
	"one-value":       `8443`,
	"other-key":       `listen.port`,
	"other-file":      `tidebook.yaml`,
	"other-host":      `tidebook`,
	"other-value":     `443`,
	"url":             `https://pier.varzea.example/metadata`,
	"partner":         `pier.varzea.example`,
	"machine":         `tidebook`,
	"powerless":       `tidebook`,
	"console":         `https://heron.varzea.example/tidebook`,
	"forward":         `service harbour/tidebook, port web`,
	"why":             `no pod has its labels (app=tidebook)`,
	"before":          `2 (guests)`,
	"without":         `2 (guests)`,
	"except":          `not-from: [10.20.7.31]`,
	"also":            `allow from 10.20.7.31, tcp 443`,
	"table":           `gauges`,
	"zone":            `varzea.example`,
}

var place = regexp.MustCompile(`\{([^} ]+)\}`)

// onWindows is the examples that differ where the host runs Windows.
var onWindows = map[string]string{
	"=fix": `New-NetFirewallRule -DisplayName Tidebook -Action Allow -Protocol TCP -LocalPort 443 -RemoteAddress ` +
		`10.20.7.31`,
	"=unfix":  `Remove-NetFirewallRule -DisplayName Tidebook`,
	"cert":    `C:\ProgramData\tidebook\tide.crt`,
	"failed":  `GaugeAgent`,
	"stale":   `GaugeAgent`,
	"file":    `C:\ProgramData\tidebook\tidebook.yaml`,
	"key":     `C:\ProgramData\tidebook\tide.key`,
	"lasts":   `it lasts`,
	"level":   `C:\tides`,
	"link":    `Ethernet`,
	"masked":  `Tidebook`,
	"needed":  `Ledger`,
	"path":    `C:\tides\levels`,
	"private": `C:\ProgramData\tidebook\tide.key`,
	"place":   `C:\ProgramData\tidebook\tidebook.yaml:12`,
	"store":   `the store ROOT`,
	"unit":    `Tidebook`,
	"user":    `NETWORK SERVICE`,
	"sources": `its order of sources`,
}

// placesOf fills the places of a remedy of a cause with the made-up world.
func placesOf(own map[string]string, system string) func(string) string {
	return func(s string) string {
		return place.ReplaceAllStringFunc(s, func(at string) string {
			name := at[1 : len(at)-1]
			if example, ok := own[name+"@windows"]; ok && system == "windows" {
				return example
			}
			if example, ok := own[name]; ok && (system != "windows" || !strings.HasPrefix(example, "/")) {
				return example
			}
			if example, ok := onWindows[name]; ok && system == "windows" {
				return example
			}
			if example, ok := examples[name]; ok {
				return example
			}
			return at
		})
	}
}
