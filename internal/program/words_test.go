package program

import "testing"

func TestRefuses(t *testing.T) {
	for text, want := range map[string]string{
		"450 4.7.25 Client host rejected: cannot find your hostname, " +
			"[10.20.7.31]": "names/reverse-differs",
		"554 5.7.1 <gauge-07.varzea.example[10.20.7.31]>: Client host rejected: no mail from the " +
			"gauges": "answer/source-refused",
		"421 Too many concurrent SMTP connections; please try again " +
			"later.": "login/too-many-sessions",
		"Sorry, the maximum number of allowed clients are already " +
			"connected.": "login/too-many-sessions",
		"-ERR max number of clients reached": "login/too-many-sessions",
		"Host '10.20.7.31' is not allowed to connect to this MariaDB " +
			"server": "answer/source-refused",
		"Host 'x' is blocked because of many connection " +
			"errors": "login/host-blocked",
		"The plain HTTP request was sent to an HTTPS " +
			"port": "settings/wrong-security",
		"530 Must issue a STARTTLS command " +
			"first": "settings/wrong-security",
		"the database system is starting " +
			"up": "answer/not-ready",
		"refused connect from 10.20.7.31 " +
			"(10.20.7.31)": "answer/source-refused",
		"220 tidebook ESMTP ready": "",
		"550 no such user here":    "",
		"connection denied by rule 7 for " +
			"10.20.7.31": "answer/source-refused",
		"535 authentication failed": "",
	} {
		m, _ := Refuses(text)
		if m.Cause != want {
			t.Errorf("%q: %q, want %q", text, m.Cause, want)
		}
	}
}

func TestDoesNotStart(t *testing.T) {
	for text, want := range map[string]string{
		"nginx: [emerg] bind() to 0.0.0.0:443 failed (98: Address already in use)":      "service/port-taken",
		`postconf: fatal: invalid chroot field "q" in "smtp inet n - q - - smtpd"`:      "service/settings-rejected",
		"/etc/ssh/sshd_config: line 3: Bad configuration option: PermitRoot":            "service/settings-rejected",
		"FATAL: configuration file \"/etc/postgresql/postgresql.conf\" contains errors": "service/settings-rejected",
		"panic: open /etc/tide/tide.yaml: no such file or directory":                    "service/settings-rejected",
		"Error: Unable to open config file /etc/mosquitto/x.conf: No such file":         "service/settings-rejected",
		"Error: Unknown configuration variable \"listner\".":                            "service/settings-rejected",
		"could not write to file: No space left on device":                              "service/starved",
		"unable to load server certificate file \"server.pem\": no such file":           "service/settings-rejected",
		"Not a valid configuration directive: Tides on":                                 "service/settings-rejected",
		"run: parse config: toml: line 558 (last key \"tls\"): expected '.' or '='":     "service/settings-rejected",
		"spamd.service: Main process exited, code=exited, status=64/USAGE":              "service/settings-rejected",
		"run: open server: listen tcp :8086: bind: address already in use":              "service/port-taken",
		`msg="Loading configuration file failed" file=/etc/tide.yml`:                    "service/settings-rejected",
		`Fatal error: [string "chunk"]:6: unexpected symbol near '<eof>'`:               "service/settings-rejected",
		"parsing config file /etc/tide.conf":                                            "",
		"Started tide.service - The tides.":                                             "",
		"Main process exited, code=exited, status=1/FAILURE":                            "",
	} {
		m, _, _ := DoesNotStart(text)
		if m.Cause != want {
			t.Errorf("%q: %q, want %q", text, m.Cause, want)
		}
	}
}

func TestSeenAs(t *testing.T) {
	for text, want := range map[string]string{
		`no pg_hba.conf entry for host "10.20.0.1", user "gauge"`: "10.20.0.1",
		"rejected: cannot find your hostname, [10.20.7.31]":       "10.20.7.31",
		"refused connect from fd20::31":                           "fd20::31", "nothing at all": "",
		"at 12:30:01 it said no": "",
	} {
		got := ""
		if addr, ok := SeenAs(text); ok {
			got = addr.String()
		}
		if got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}
