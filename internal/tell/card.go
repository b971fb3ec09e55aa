package tell

import (
	"fmt"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// CardDraft is a first card with a comment at every line.
func CardDraft(c fact.Card) string {
	var b strings.Builder
	line := func(text, comment string) {
		fmt.Fprintf(&b, "%-44s # %s\n", text, comment)
	}
	off := func(text, comment string) { line("# "+text, comment) }
	or := func(key, value, example, comment string) {
		if value == "" {
			off(key+": "+example, comment)
			return
		}
		line(key+": "+foreign.Printable(value), comment)
	}
	line("format: uakari.card/1", "always")
	line("name: "+foreign.Printable(c.Name), "short; trails name it")
	line("endpoint: "+foreign.Printable(c.Endpoint), "what clients are told")
	list := func(key string, values []string, example, comment string) {
		if len(values) == 0 {
			off(key+": "+example, comment)
			return
		}
		line(key+": "+listInYAML(values), comment)
	}
	list("aliases", c.Aliases, "[portal.varzea.example]", "other names that clients use")
	or("program", c.Program, "/usr/sbin/nginx", "the server program, a name or a path")
	or("unit", c.Unit, "tidebook.service", "the unit that runs it")
	var ports []string
	for _, p := range c.Ports {
		ports = append(ports, fmt.Sprint(p))
	}
	line("ports: ["+strings.Join(ports, ", ")+"]", "every port that should be open")
	or("log", c.Log, "/var/log/tidebook.log", "written as long as it is well")
	off("fresh: 10m", "how fresh that log must be")
	or("certificate", c.Certificate, "/etc/ssl/tidebook.pem", "the file of the certificate that it serves")
	or("certificate-key", c.CertificateKey, "/etc/ssl/tidebook.key", "and of its key, if that is another")
	off("limit: 10s", "how long clients wait for an answer")
	off("client-program: tidebook-upload", "what makes the connection on the client")
	off("client-unit: gauge-agent.service", "the service there that does")
	off("client-log: /var/log/gauge-agent.log", "and its log")
	off("from: [10.20.0.0/16]", "who may use it")
	off("answer: {status: [200]}", "the answer that is right")
	list("hops", c.Hops, "['postgres://ledger.varzea.example/']", "what it needs itself")
	if len(c.Settings) > 0 {
		line("settings:", "that must be right, on one side or both; add client: where clients have it")
	}
	for _, r := range c.Settings {
		fmt.Fprintf(&b, "  - name: %s\n    is: %s\n", inYAML(r.Name), inYAML(r.Is))
		if r.Value != "" {
			fmt.Fprintf(&b, "    value: %s\n", inYAML(r.Value))
		}
		fmt.Fprintf(&b, "    server: {file: %s, format: %s, key: %s}\n",
			inYAML(r.Server.File), inYAML(r.Server.Format), inYAML(r.Server.Key))
	}
	b.WriteString("#\n")
	if len(c.Settings) == 0 {
		b.WriteString(`# settings:                                  # that must be right, on one side or both
#   - name: the portal's port
#     is: port                               # host, port, address, url, security, same, one-of; or value: …
#     client: {file: /etc/gauge.ini, format: ini, key: portal.port}
`)
	}
	b.WriteString(`# signs:                                     # marks of health
#   - {on: client, file: /var/lib/gauge/sites.xml, fresh: 24h}
# reasons:                                   # what lines of its log mean
#   - {log: 'state code 775', cause: login/locked}
# port-map:                                  # what each port is for, and who fails without it
#   - {port: 8443, for: uploads, needed-by: [the night run]}
# call:
#   - {part: certs, who: the certificate desk}
`)
	return b.String()
}

// CardChecked says that a card is well, and what of it one host cannot see.
func CardChecked(path string, c fact.Card) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s: well (%s)\n", foreign.Printable(path), foreign.Printable(c.Name))
	note := func(when bool, format string, args ...any) {
		if when {
			block(&b, "  ", "  ", foreign.Printable(fmt.Sprintf(format, args...)), width)
		}
	}
	client, server := 0, 0
	for _, s := range c.Settings {
		if s.Client != nil {
			client++
		}
		if s.Server != nil {
			server++
		}
	}
	for _, s := range c.Signs {
		if s.On == "client" {
			client++
		} else {
			server++
		}
	}
	note(
		client > 0,
		"what it says of the client (%d) is read where the trace runs, or by --at client=…",
		client,
	)
	note(
		server > 0 || c.Program != "" || c.Unit != "",
		"what it says of the server is seen on the server: --at server=USER@HOST, or a record made there",
	)
	note(len(c.Hops) > 0, "its hops are traced from the server, not from the client")
	note(c.Endpoint == "", "it names no endpoint: whether the client was told the right one cannot be said")
	note(c.Answer == nil, "it does not say which answer is right: any answer without an error counts")
	return b.String()
}

// CardCompared is where a card and its hosts do not agree.
func CardCompared(differ []string) string {
	var b strings.Builder
	if len(differ) == 0 {
		b.WriteString("  it agrees with what was seen of its hosts\n")
	}
	for _, line := range differ {
		block(&b, "  differs: ", "           ", foreign.Printable(line), width)
	}
	return b.String()
}

// CardShown is a card as a page to pin to the wall.
func CardShown(c fact.Card, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	title := foreign.Printable(c.Name)
	if c.Endpoint != "" {
		title += "  " + foreign.Printable(c.Endpoint)
	}
	fmt.Fprintln(&b, p.as(bold, title))
	row := func(name, text string) {
		if text != "" {
			block(&b, fmt.Sprintf("  %-10s ", name), strings.Repeat(" ", 13), foreign.Printable(text), width)
		}
	}
	row("also", strings.Join(c.Aliases, ", "))
	row("program", strings.TrimSpace(c.Program+"  "+c.Unit))
	row("needs", strings.Join(c.Needs, ", "))
	row("from", strings.Join(c.From, ", "))
	row("through", c.Proxy)
	row("waits", c.Limit)
	if len(c.Ports)+len(c.PortMap) > 0 {
		fmt.Fprintf(&b, "\n  %-13s %s\n", "port", "for")
		for _, port := range c.Ports {
			text := "must be open"
			for _, use := range c.PortMap {
				if use.Port == port {
					text = use.For
				}
			}
			fmt.Fprintf(&b, "  %-13d %s\n", port, foreign.Printable(text))
		}
		for _, use := range c.PortMap {
			if use.Range != "" {
				fmt.Fprintf(
					&b,
					"  %-13s %s, chosen at run time\n",
					foreign.Printable(use.Range),
					foreign.Printable(use.For),
				)
			} else if !hasPort(c.Ports, use.Port) {
				fmt.Fprintf(&b, "  %-13d %s\n", use.Port, foreign.Printable(use.For))
			}
		}
	}
	section := func(name string, lines []string) {
		if len(lines) == 0 {
			return
		}
		fmt.Fprintf(&b, "\n%s\n", p.as(bold, name))
		for _, line := range lines {
			block(&b, "  ", "    ", foreign.Printable(line), width)
		}
	}
	section("Settings that must agree", settingLines(c))
	section("Signs of health", signLines(c))
	section("Behind it", c.Hops)
	var pairs []string
	for _, p := range c.Pairs {
		text := p.Endpoint
		for _, more := range []struct{ when, says string }{{p.Trust, ", judged by " + p.Trust},
			{p.Metadata, ", described at " + p.Metadata}} {
			if more.when != "" {
				text += more.says
			}
		}
		pairs = append(pairs, text)
	}
	section("Both ways", pairs)
	section("Notes", c.Notes)
	var more []string
	for _, person := range c.Call {
		more = append(more, person.Part+": call "+person.Who)
	}
	for _, link := range c.Links {
		more = append(more, link.Part+": "+link.URL)
	}
	section("Whom to ask", more)
	return b.String()
}

func hasPort(list []uint16, port uint16) bool {
	for _, p := range list {
		if p == port {
			return true
		}
	}
	return false
}

func settingLines(c fact.Card) []string {
	var lines []string
	for _, s := range c.Settings {
		text := s.Name + ": "
		if s.Value != "" {
			text += fmt.Sprintf("%q", s.Value)
		} else if s.Is == "same" {
			text += "the same on both"
		} else {
			text += "the endpoint's " + s.Is
		}
		for _, at := range []struct {
			side string
			at   *fact.SettingAt
		}{{"client", s.Client}, {"server", s.Server}} {
			if at.at != nil {
				text += fmt.Sprintf("; %s: %s in %s", at.side, at.at.Key, at.at.File)
			}
		}
		lines = append(lines, text)
	}
	return lines
}

func signLines(c fact.Card) []string {
	var lines []string
	if c.Log != "" {
		text := "server: " + c.Log + " is written"
		if c.Fresh != "" {
			text += " every " + c.Fresh
		}
		lines = append(lines, text)
	}
	for _, s := range c.Signs {
		text := s.On + ": " + s.Of()
		for _, part := range []struct{ when, says string }{
			{s.Fresh, "changed within " + s.Fresh},
			{s.LastLine, fmt.Sprintf("ends in %q", s.LastLine)},
			{s.Must, "has a line " + s.Must},
			{s.MustNot, "has no line " + s.MustNot},
		} {
			if part.when != "" {
				text += ", " + part.says
			}
		}
		if s.AtLeast > 0 {
			text += fmt.Sprintf(", at least %d files", s.AtLeast)
		}
		if s.AtMost > 0 {
			text += fmt.Sprintf(", at most %d files a day", s.AtMost)
		}
		lines = append(lines, text)
	}
	return lines
}
