package redact

import (
	"regexp"
	"slices"
	"strings"
	"sync"

	"uakari/internal/fact"
)

// secretsIn finds what may be a secret within a line: URLs, which may name an
// account, and words that name one, with what stands behind "=" or ":".
var secretsIn = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?i)\b[a-z][a-z0-9+.-]*://[^\s"'<>]+|\b(?:proxy-)?authorization\s*[:=]\s*(?:(?:basic|bearer|digest|` +
			`negotiate)\s+)?[^\s,;"']+|` +
			`\b[\w.-]*(?:password|passwd|pwd|passphrase|secret|token|api[-_]?key|cookie)["']?\s*[=:]\s*(?:"[^"]*"|` +
			`'[^']*'|[^\s;&,]+)`,
	)
})

// lineKinds is, by the kind of an access list, what is kept of one of its
// lines; "" for nothing.
var lineKinds = map[string]func(string) string{
	fact.ListHBA: hbaLine, fact.ListNginx: blockLine, fact.ListSSH: sshLine, fact.ListRedis: redisLine,
	fact.ListWrapperAllow: wrapperLine, fact.ListWrapperDeny: wrapperLine, fact.ListOfCard: listLine,
	fact.ListPostfix: postfixLine, fact.ListPostfixTable: tableLine, fact.ListHAProxy: haproxyLine,
}

// Line is what is kept of a line of an access list of a kind that is known;
// nothing of others.
func Line(kind, line string) string {
	if keep := lineKinds[kind]; keep != nil {
		return keep(line)
	}
	return ""
}

// postfixLine keeps a setting about clients (postconf(5)): nets, and names of
// restrictions and tables.
func postfixLine(line string) string {
	name, value, ok := strings.Cut(line, "=")
	if !ok {
		return ""
	}
	fields := strings.FieldsFunc(value, func(r rune) bool { return r == ',' || r == ' ' || r == '\t' })
	for i, field := range fields {
		if !postfixWord().MatchString(field) {
			fields[i] = Hidden
		}
	}
	return strings.TrimSpace(name) + " = " + strings.Join(fields, " ")
}

// postfixWord is a restriction, a table or a net.
var postfixWord = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(?:[a-z][a-z_]*|[a-z]+:/[\w./-]+|!?[\[\]0-9a-fA-F.:]+(?:/\d+)?|\$[a-z_]+)$`)
})

// tableLine keeps a net and what is done with it, without the words for the
// client.
func tableLine(line string) string {
	fields := strings.Fields(line)
	if len(fields) < 2 || strings.HasPrefix(fields[0], "#") || !postfixWord().MatchString(fields[0]) {
		return ""
	}
	return fields[0] + " " + fields[1]
}

// hbaOptions are options of pg_hba.conf that are no secrets (the manual's "The
// pg_hba.conf File" and the pages on each method).
var hbaOptions = words(
	`map clientcert clientname include_realm krb_realm compat_realm upn_username pamservice pam_use_hostname
	ldapserver ldapport ldapscheme ldaptls ldapprefix ldapsuffix ldapbasedn ldapbinddn ldapsearchattribute
	ldapsearchfilter radiusservers radiusports radiusidentifiers`,
)

// hbaLine keeps the fields of pg_hba.conf and its harmless options.
func hbaLine(line string) string {
	fields := quotedFields(line)
	for i, field := range fields {
		if name, _, ok := strings.Cut(strings.TrimLeft(field, `"`), "="); ok && i > 2 &&
			!hbaOptions[strings.ToLower(name)] {
			fields[i] = name + "=" + Hidden
		}
	}
	return strings.Join(fields, " ")
}

// quotedFields splits at blanks outside of double quotes, up to a comment.
func quotedFields(line string) []string {
	var fields []string
	var field strings.Builder
	quoted := false
	for _, r := range line {
		switch {
		case r == '"':
			quoted = !quoted
			field.WriteRune(r)
		case r == '#' && !quoted:
			if field.Len() > 0 {
				fields = append(fields, field.String())
			}
			return fields
		case (r == ' ' || r == '\t') && !quoted:
			if field.Len() > 0 {
				fields = append(fields, field.String())
				field.Reset()
			}
		default:
			field.WriteRune(r)
		}
	}
	if field.Len() > 0 {
		fields = append(fields, field.String())
	}
	return fields
}

// statements are those of nginx whose words are kept, and heads the blocks
// whose heads are (nginx's manual, ngx_http_access_module and the core).
var (
	statements = words(
		`allow deny listen server_name include satisfy set_real_ip_from real_ip_header real_ip_recursive`,
	)
	heads = words(`location server http events stream mail`)
)

// blockLine keeps the statements of a line of nested blocks that bear on
// addresses, and every brace.
func blockLine(line string) string {
	var out, statement strings.Builder
	var quote rune
	end := func(by rune) {
		fields := strings.Fields(statement.String())
		statement.Reset()
		switch {
		case len(fields) == 0:
		case by == '{' && heads[fields[0]], by != '{' && statements[fields[0]]:
			out.WriteString(strings.Join(fields, " "))
		case by == '{':
			out.WriteString(fields[0] + " " + Hidden)
		default:
			out.WriteString(Hidden)
		}
		if by != 0 {
			if by == '{' {
				out.WriteByte(' ')
			}
			out.WriteRune(by)
			out.WriteByte(' ')
		}
	}
	for _, r := range line {
		switch {
		case quote != 0:
			if r == quote {
				quote = 0
			}
			statement.WriteRune(r)
		case r == '"' || r == '\'':
			quote = r
			statement.WriteRune(r)
		case r == '#':
			end(0)
			return braced(out.String())
		case r == ';' || r == '{' || r == '}':
			end(r)
		default:
			statement.WriteRune(r)
		}
	}
	end(0)
	return braced(out.String())
}

// braced is a line of which something was kept; "" for one that says nothing.
func braced(line string) string {
	if strings.Trim(line, Hidden+" ;") == "" {
		return ""
	}
	return strings.TrimSpace(line)
}

// haproxyHeads begin sections, and say where one is bound.
var haproxyHeads = words(`global defaults frontend listen backend bind`)

// haproxyLine keeps of HAProxy's settings where a section begins and is bound, lists of
// addresses by their names, and rules with the parts of their conditions that ask for
// addresses.
func haproxyLine(line string) string {
	text, _, _ := strings.Cut(line, "#")
	fields := strings.Fields(text)
	switch {
	case len(fields) == 0:
		return ""
	case fields[0] == "acl" && len(fields) > 3 && fields[2] == "src":
		return "acl " + fields[1] + " src " + sourcesOf(fields[3:])
	case haproxyHeads[fields[0]]:
		return strings.Join(fields[:min(2, len(fields))], " ")
	case fields[0] != "tcp-request" && fields[0] != "http-request":
		return ""
	}
	action := 2 // "http-request deny"
	if fields[0] == "tcp-request" {
		action = 3 // "tcp-request connection reject"
	}
	if len(fields) < action {
		return ""
	}
	verb, _, _ := strings.Cut(fields[action-1], "(")
	kept := append(slices.Clone(fields[:action-1]), verb)
	at := slices.IndexFunc(fields, func(f string) bool { return f == "if" || f == "unless" })
	if at < 0 {
		return strings.Join(kept, " ")
	}
	kept = append(kept, fields[at])
	for rest := fields[at+1:]; len(rest) > 0; rest = rest[1:] {
		switch end := slices.Index(rest, "}"); {
		case strings.TrimPrefix(rest[0], "!") == "{" && end > 1 && rest[1] == "src":
			kept = append(kept, rest[0], "src", sourcesOf(rest[2:end]), "}")
			rest = rest[end:]
		case strings.TrimPrefix(rest[0], "!") == "{" && end > 0:
			kept = append(kept, rest[0], Hidden, "}")
			rest = rest[end:]
		case conditionWord().MatchString(rest[0]):
			kept = append(kept, rest[0])
		default:
			kept = append(kept, Hidden)
		}
	}
	return strings.Join(kept, " ")
}

// conditionWord is the name of a list, or what stands between two.
var conditionWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(?:!|!?[\w.:-]+|\|\|)$`) })

// sourcesOf keeps the addresses among some words, and the names of files of them.
func sourcesOf(fields []string) string {
	kept := slices.Clone(fields)
	for i, f := range kept {
		if !addressWord().MatchString(f) && !strings.HasPrefix(f, "/") {
			kept[i] = Hidden
		}
	}
	return strings.Join(kept, " ")
}

var addressWord = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(?:-[fin-]|[0-9a-fA-F.:]+(?:/\d+)?)$`)
})

// sshWords are keywords of sshd_config(5) that say who may come in, from where, and by
// what.
var sshWords = words(`match allowusers denyusers allowgroups denygroups permitrootlogin usedns include
	authenticationmethods passwordauthentication kbdinteractiveauthentication challengeresponseauthentication
	pubkeyauthentication`)

func sshLine(line string) string {
	fields := quotedFields(strings.Replace(line, "=", " ", 1))
	if len(fields) == 0 || !sshWords[strings.ToLower(fields[0])] {
		return ""
	}
	for i, field := range fields {
		if strings.EqualFold(field, "exec") && i > 0 { // a command, with whatever it is given
			return strings.Join(append(fields[:i+1], Hidden), " ")
		}
	}
	return strings.Join(fields, " ")
}

// redisWords are keywords of redis.conf by whether their values are kept.
var redisWords = map[string]bool{
	"protected-mode": true,
	"include":        true,
	"aclfile":        true,
	"bind":           true,
	"port":           true,
	"requirepass":    false,
	"user":           false,
}

func redisLine(line string) string {
	fields := strings.Fields(line)
	if len(fields) == 0 {
		return ""
	}
	kept, known := redisWords[strings.ToLower(fields[0])]
	switch {
	case !known:
		return ""
	case kept:
		return strings.Join(fields, " ")
	}
	return fields[0] + " " + Hidden
}

// wrapperLine keeps daemons and clients of hosts_access(5), and of the options
// behind them the keywords: commands are given whatever they are given.
func wrapperLine(line string) string {
	if bare := strings.TrimSpace(line); bare == "" || bare[0] == '#' {
		return ""
	}
	parts := wrapperFields(line)
	for i, part := range parts {
		if i < 2 {
			continue
		}
		fields := strings.Fields(part)
		switch {
		case len(fields) > 1:
			parts[i] = " " + fields[0] + " " + Hidden + " "
		case len(fields) == 1 && !optionShape(fields[0]):
			parts[i] = Hidden
		}
	}
	return strings.Join(parts, ":")
}

// wrapperFields splits at colons outside of brackets, where IPv6 addresses are.
func wrapperFields(line string) []string {
	fields := []string{""}
	inside := 0
	for i, r := range line {
		switch {
		case r == '[':
			inside++
		case r == ']':
			inside--
		case r == ':' && inside == 0 && (i == 0 || line[i-1] != '\\'):
			fields = append(fields, "")
			continue
		}
		fields[len(fields)-1] += string(r)
	}
	return fields
}

// listLine keeps addresses, nets and host names, which a line of an allow-list
// holds; what is none of these is not kept.
func listLine(line string) string {
	bare, _, _ := strings.Cut(line, "#")
	if bare = strings.TrimSpace(bare); bare == "" {
		return ""
	}
	fields := strings.FieldsFunc(bare, func(r rune) bool { return strings.ContainsRune(" \t,;", r) })
	for i, field := range fields {
		if !isAddress(field) && !hostShape().MatchString(field) && !switches[strings.ToLower(field)] {
			fields[i] = Hidden
		}
	}
	return strings.Join(fields, " ")
}
