package test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
)

// TestNextStart breaks a unit in every way that systemd itself refuses to start it for: each
// is foretold without starting anything, and then started.
func TestNextStart(t *testing.T) {
	t.Parallel()
	h := bootOver(t, labRoot)
	h.install()
	h.do("useradd -r tidegate; groupadd tidewatch; mkdir -p /srv/tidegate /opt; " +
		"printf '#!/bin/sh\\nexec sleep 600\\n' > /opt/gate; chmod 755 /opt/gate; " +
		"printf '#!/usr/bin/tideshell\\n' > /opt/odd; chmod 755 /opt/odd; " +
		"printf '#!/bin/sh\\r\\nexec sleep 600\\r\\n' > /opt/crlf; chmod 755 /opt/crlf; " +
		"printf '#!/bin/sh\\nexit 0\\n' > /opt/private0; chmod 700 /opt/private0; cp /opt/gate /opt/shut; chmod 644 /opt/shut; cp /opt/gate /opt/private; chmod 700 /opt/private; " +
		"mkdir -m 700 /srv/private; mkdir -p /mnt/plain; " +
		"mount -t tmpfs -o noexec tmpfs /mnt/plain; cp /opt/gate /mnt/plain/gate; " +
		"printf '\\177ELF\\002\\001\\001\\000\\000\\000\\000\\000\\000\\000\\000\\000\\002\\000\\363\\000' > /opt/other; " +
		"head -c 200 /dev/zero >> /opt/other; chmod 755 /opt/other; " +
		"printf '[Service]\\nExecStart=/opt/gate\\n' > /etc/systemd/system/tidemasked.service; " +
		"mv /etc/systemd/system/tidemasked.service /root/; ln -s /dev/null /etc/systemd/system/tidemasked.service")
	const start = "ExecStart=/opt/gate\n"
	// One that needs a unit which may provide the file says so.
	h.put("/etc/systemd/system/tidefirst.service",
		"[Service]\nType=oneshot\nExecStart=/usr/bin/touch /run/tidefirst\n")
	h.put("/etc/systemd/system/tidegate.service", "[Unit]\nRequires=tidefirst.service\nAfter=tidefirst.service\n"+
		"[Service]\n"+start+"EnvironmentFile=/run/tidefirst\n")
	h.do("systemctl daemon-reload")
	_, whole := nextStart(t, h, "tidegate")
	if len(whole.Blocked) != 1 || whole.Blocked[0].After != "tidefirst.service" {
		t.Errorf("a file that another unit makes: %+v", whole)
	}
	for _, c := range []struct {
		name, unit, service string
		blocked             string // the setting or the kind that is foretold; "": it starts
	}{
		{"all is well", "", start, ""},
		{"as a user", "", start + "User=tidegate\nGroup=tidewatch\nWorkingDirectory=/srv/tidegate\n", ""},
		{"what is missing may be missing", "", start + "EnvironmentFile=-/etc/none\nReadWritePaths=-/srv/none\n" +
			"WorkingDirectory=-/srv/none\nBindPaths=-/srv/none\n", ""},
		{"a program of before that may fail", "", "ExecStartPre=-/opt/none\n" + start, ""},
		{"folders that are made for it", "", start + "StateDirectory=tidegate\nWorkingDirectory=/var/lib/tidegate\n" +
			"RuntimeDirectory=tidegate\nReadWritePaths=/run/tidegate\nUser=tidegate\n", ""},
		{"a folder that only it sees", "", start + "PrivateTmp=yes\nWorkingDirectory=/tmp\nReadWritePaths=/var/tmp\n",
			""},
		{"a program of root's, run with all rights", "", "ExecStartPre=+/opt/private0\n" + start + "User=tidegate\n",
			""},
		{"no program", "", "ExecStart=/opt/none\n", "program"},
		{"no program before it", "", "ExecStartPre=/opt/none\n" + start, "program"},
		{"a program that nobody may run", "", "ExecStart=/opt/shut\n", "program"},
		{"a program of root's", "", "ExecStart=/opt/private\nUser=tidegate\n", "program"},
		{"no interpreter", "", "ExecStart=/opt/odd\n", "program"},
		{"lines as of Windows", "", "ExecStart=/opt/crlf\n", "program"},
		{"a folder", "", "ExecStart=/opt\n", "program"},
		{"of another machine", "", "ExecStart=/opt/other\n", "program"},
		{"on a file system without programs", "", "ExecStart=/mnt/plain/gate\n", "program"},
		{"no user", "", start + "User=heron\n", "account"},
		{"no group", "", start + "Group=heron\n", "account"},
		{"no working folder", "", start + "WorkingDirectory=/srv/none\n", "folder"},
		{"a working folder that is a file", "", start + "WorkingDirectory=/opt/gate\n", "folder"},
		{"a working folder of root's", "", start + "User=tidegate\nWorkingDirectory=/srv/private\n", "folder"},
		{"no file of variables", "", start + "EnvironmentFile=/etc/none\n", "file"},
		{"no credential", "", start + "LoadCredential=key:/etc/none\n", "file"},
		{"no folder to write in", "", start + "ReadWritePaths=/srv/none\n", "folder"},
		{"no folder to read", "", start + "ReadOnlyPaths=/srv/none\n", "folder"},
		{"no folder to show", "", start + "BindPaths=/srv/none:/mnt\n", "folder"},
		{"no folder to show for reading", "", start + "BindReadOnlyPaths=/srv/none\n", "folder"},
		{"no root", "", start + "RootDirectory=/srv/none\n", "folder"},
		{"an assertion", "AssertPathExists=/etc/none\n", start, "assert"},
		{"an assertion of the contrary", "AssertPathExists=!/etc/passwd\n", start, "assert"},
		{"an assertion that holds", "AssertPathExists=/etc/passwd\nAssertPathIsDirectory=/etc\n", start, ""},
		{"an assertion of a folder", "AssertPathIsDirectory=/etc/passwd\n", start, "assert"},
		{"an assertion of a file", "AssertFileNotEmpty=/dev/null\n", start, "assert"},
		{"it needs what is masked", "Requires=tidemasked.service\n", start, "needs"},
		{"it needs what is not there", "Requires=tidenone.service\n", start, "needs"},
		{"it is bound to what is not there", "BindsTo=tidenone.service\nAfter=tidenone.service\n", start, "needs"},
		{"it wants what is not there", "Wants=tidenone.service\n", start, ""},
		{"it wants another to run already", "Requisite=tideother.service\nAfter=tideother.service\n", start, "needs"},
		{"no command at all", "", "Type=simple\n", "unit"},
	} {
		h.put("/etc/systemd/system/tideother.service", "[Service]\nExecStart=/opt/gate\n")
		h.put("/etc/systemd/system/tidegate.service", "[Unit]\n"+c.unit+"[Service]\n"+c.service)
		h.do("systemctl daemon-reload; systemctl stop tidegate tideother 2>/dev/null; systemctl reset-failed; true")
		foretold, whole := nextStart(t, h, "tidegate")
		if got := strings.Join(foretold, " "); got != c.blocked {
			t.Errorf("%s: foretold %q, want %q: %+v", c.name, got, c.blocked, whole)
		}
		out, err := h.command("systemctl", "start", "tidegate").CombinedOutput()
		time.Sleep(50 * time.Millisecond) // what cannot be executed shows after the start
		state, _ := h.command("systemctl", "is-active", "tidegate").Output()
		if runs := err == nil && strings.TrimSpace(string(state)) == "active"; runs != (c.blocked == "") {
			t.Errorf("%s: foretold %q, and it runs: %v (%s%s)", c.name, c.blocked, runs, out, state)
		}
	}
	// Too many starts, one after the other.
	h.put("/etc/systemd/system/tidegate.service",
		"[Unit]\nStartLimitBurst=2\nStartLimitIntervalSec=300\n[Service]\nExecStart=/bin/false\n")
	h.do("systemctl daemon-reload; for i in 1 2 3 4; do systemctl start tidegate; sleep 0.1; done; true")
	if foretold, whole := nextStart(t, h, "tidegate"); strings.Join(foretold, " ") != "limit" {
		t.Errorf("started too often: foretold %q: %+v", foretold, whole)
	}
	if err := h.command("systemctl", "start", "tidegate").Run(); err == nil {
		t.Error("it may be started again")
	}
}

// nextStart is the kinds of what the next start of a unit is said to fail at.
func nextStart(t *testing.T, h *fullHost, unit string) ([]string, fact.Unit) {
	t.Helper()
	out, _ := h.command("uakari", "service", unit, "--json").Output() // its status is 1: the unit is down
	var p fact.Program
	if err := json.Unmarshal(out, &p); err != nil || len(p.Units) != 1 {
		t.Fatalf("%v: %s", err, out)
	}
	p.Units[0].Log = nil
	var kinds []string
	for _, b := range p.Units[0].Blocked {
		kinds = append(kinds, b.Kind)
	}
	if !p.Units[0].Checked {
		kinds = append(kinds, fmt.Sprintf("not checked: %+v", p.Units[0]))
	}
	return kinds, p.Units[0]
}
