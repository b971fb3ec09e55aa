package program

import (
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// PostfixTables is the tables that Postfix looks clients up in and that are
// plain text to be read: "cidr:/etc/postfix/clients".
func PostfixTables(text string) []string {
	var list []string
	for _, value := range postfixSettings(text) {
		for _, word := range strings.FieldsFunc(value, func(r rune) bool {
			return r == ',' || r == ' ' ||
				r == '\t'
		}) {
			if path, ok := strings.CutPrefix(word, "cidr:"); ok && !slices.Contains(list, path) {
				list = append(list, path)
			}
		}
	}
	return list
}

// postfixSettings reads main.cf (postconf(5)): lines that begin with a blank
// go on from the one before, and later settings replace earlier ones.
func postfixSettings(text string) map[string]string {
	settings := map[string]string{}
	name := ""
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		switch {
		case strings.TrimSpace(line) == "" || strings.HasPrefix(strings.TrimSpace(line), "#"):
		case line[0] == ' ' || line[0] == '\t':
			settings[name] += " " + strings.TrimSpace(line)
		default:
			var value string
			name, value, _ = strings.Cut(line, "=")
			name = strings.TrimSpace(name)
			settings[name] = strings.TrimSpace(value)
		}
	}
	return settings
}

// postfixLists is the lists that are about clients, in the order in which they
// are asked.
var postfixLists = []string{"smtpd_client_restrictions"}

// PostfixRefuses is the line by which Postfix turns a client's address away, and
// the file that it stands in; an empty line where it lets it in, or that cannot
// be told.
func PostfixRefuses(files []fact.AccessFile, source netip.Addr) (file fact.AccessFile, line string) {
	for _, main := range files {
		if main.Kind != "postfix" {
			continue
		}
		var text strings.Builder
		for _, l := range main.Lines {
			text.WriteString(l.Text + "\n")
		}
		settings := postfixSettings(text.String())
		for _, name := range postfixLists {
			if file, line := postfixList(settings[name], settings, main, files, source); line != "" {
				return file, line
			}
		}
	}
	return fact.AccessFile{}, ""
}

// postfixList asks one list: the first word that decides.
func postfixList(
	list string,
	settings map[string]string,
	main fact.AccessFile,
	files []fact.AccessFile,
	source netip.Addr,
) (fact.AccessFile, string) {
	words := strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' || r == '\t' })
	for i := 0; i < len(words); i++ {
		switch word := words[i]; {
		case word == "permit":
			return fact.AccessFile{}, ""
		case word == "reject":
			return main, list
		case word == "permit_mynetworks":
			if nets, known := settings["mynetworks"]; !known || netsHold(nets, source) != filter.No {
				return fact.AccessFile{}, ""
			}
		case word == "permit_sasl_authenticated",
			strings.HasPrefix(word, "sleep"),
			strings.HasPrefix(word, "reject_rbl"),
			strings.HasPrefix(word, "reject_unauth"):
			// whoever signs in, and what is asked of others: no matter of the address
		case word == "check_client_access" && i+1 < len(words):
			i++
			path, plain := strings.CutPrefix(words[i], "cidr:")
			at := slices.IndexFunc(
				files,
				func(f fact.AccessFile) bool { return f.Kind == "postfix-table" && f.Path == path },
			)
			if !plain || at < 0 {
				return fact.AccessFile{}, "" // what it says was not read
			}
			switch action, text := cidrAction(files[at], source); action {
			case "":
			case "DUNNO":
			case "OK", "PERMIT":
				return fact.AccessFile{}, ""
			case "REJECT", "DEFER":
				return files[at], text
			default:
				return fact.AccessFile{}, ""
			}
		default:
			return fact.AccessFile{}, "" // it may decide, and is not understood
		}
	}
	return fact.AccessFile{}, ""
}

// cidrAction is the first line of a table of nets that holds an address
// (cidr_table(5)), and what it says: its first word, where a number that
// refuses is "REJECT".
func cidrAction(f fact.AccessFile, source netip.Addr) (action, text string) {
	for _, l := range f.Lines {
		fields := strings.Fields(l.Text)
		if len(fields) < 2 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		pattern, not := strings.CutPrefix(fields[0], "!")
		net, err := NetPattern(strings.Trim(pattern, "[]"))
		if err != nil || net.Contains(source.Unmap()) == not {
			continue
		}
		action = strings.ToUpper(fields[1])
		if len(action) == 3 && (action[0] == '4' || action[0] == '5') || strings.HasPrefix(action, "DEFER") {
			action = "REJECT"
		}
		return action, strings.Join(fields, " ")
	}
	return "", ""
}

// netsHold reports whether a list of nets holds an address.
func netsHold(list string, addr netip.Addr) filter.Tri {
	result := filter.No
	for _, word := range strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' || r == '\t' }) {
		net, err := NetPattern(strings.NewReplacer("[", "", "]", "").Replace(word))
		switch {
		case err != nil:
			result = filter.Unknown
		case net.Contains(addr.Unmap()):
			return filter.Yes
		}
	}
	return result
}
