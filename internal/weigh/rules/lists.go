package rules

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/program"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// turnedAway is the symptoms that an access list may give.
var turnedAway = []gate.Symptom{
	gate.ServerFirstClosed,
	gate.ServerFirstSilent,
	gate.ServerFirstRefused,
	gate.ClientFirstClosed,
	gate.RefusedByCode,
	gate.ErrorAnswer,
	gate.SilentUDP, // what comes without a connection is passed over
}

// listLine is what of a list decides.
type listLine struct {
	file, text string
	allow      string    // the line that would let the client in
	any        bool      // every source fares alike, but this host's own
	opens      string    // what that line does beside; "": it lets the client in, and nobody else
	changed    time.Time // the settings that it stands in
	later      bool      // it is asked later in a session than a trace goes
	unsure     string    // why it may not be this that decides
}

// accessJudges read one kind of list each. They return no text where nothing
// keeps the source out.
var accessJudges = []func(v *scene.Scene, t *scene.Try, a *fact.Access, source netip.Addr) (cause string,
	shows []gate.Symptom, text string, line listLine){
	wrapperJudge,
	hbaJudge,
	nginxJudge,
	haproxyJudge,
	redisJudge,
	mysqlJudge,
	plainJudge,
	postfixJudge,
	addressesJudge,
	wordsJudge,
}

// AccessReadings reads the files by which the service, or the wrapper before
// it, lets addresses in.
func AccessReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	if t.Server == "" || t.Symptom == gate.NotTried {
		return nil
	}
	// What a list says shows once the client gets so far. Where it did, only
	// lists that are asked later still count.
	within := slices.Contains(turnedAway, t.Symptom)
	past := !within && gate.Symptoms[t.Symptom].Open.Has(gate.Door)
	// A web server asks them of a request, which no session that failed got to.
	if past && !v.Protocol.DoorLater && !(v.Protocol.Web && t.Symptom == gate.SessionFailed) {
		return nil
	}
	w.AddListsAndSource(t)
	source := v.SourceOf(t)
	if !source.IsValid() {
		return nil
	}
	var readings []gate.Reading
	if r, ok := v.ReverseReading(w, t, source); ok {
		readings = append(readings, r)
	}
	for _, f := range v.Facts(t.Server, fact.LookAccess) {
		if f.Access == nil {
			continue
		}
		for _, judge := range accessJudges {
			cause, shows, text, line := judge(v, t, f.Access, source)
			if text == "" {
				continue
			}
			r := gate.Reading{
				Gate:     gate.Door,
				Cause:    cause,
				Strength: gate.Read,
				Shows:    shows,
				Because:  scene.FactIDs(f),
				Vantage:  t.Server,
				Summary:  text,
				Values: v.Place(
					t,
					catalogue.Values{
						"source": source.String(),
						"file":   line.file,
						"line":   line.text,
						"allow":  line.allow,
						"opens":  cmp.Or(line.opens, "lets "+source.String()+" in, and nobody else"),
					},
				),
			}
			if !line.any {
				r.Rests.Source = source
			}
			if line.unsure != "" {
				r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.AllRead, Why: line.unsure})
			}
			r.Rests.Changed = line.changed
			if past && !line.later {
				continue
			}
			if !within {
				r.Reach = gate.Further
			}
			readings = append(readings, r)
		}
	}
	return readings
}

// postfixJudge evaluates the list of clients of a mail server, which it asks at
// once or, as it is set to usually, when a message has a recipient.
func postfixJudge(
	v *scene.Scene,
	t *scene.Try,
	a *fact.Access,
	source netip.Addr,
) (string, []gate.Symptom, string, listLine) {
	if !v.Protocol.DoorLater {
		return "", nil, "", listLine{}
	}
	file, line := program.PostfixRefuses(a.Files, source)
	if line == "" {
		return "", nil, "", listLine{}
	}
	return "rules/not-on-list", []gate.Symptom{gate.ServerFirstRefused, gate.ServerFirstClosed, gate.ErrorAnswer},
		fmt.Sprintf(
			"%s turns %s away (%s)",
			file.Path,
			source,
			line,
		), listLine{file: file.Path, text: line, allow: source.String() + " OK", later: true, changed: file.Changed}
}

// wrapperJudge evaluates hosts.allow and hosts.deny (hosts_access(5)): the
// first file that matches decides, and what neither names is let in.
func wrapperJudge(
	v *scene.Scene,
	t *scene.Try,
	a *fact.Access,
	source netip.Addr,
) (string, []gate.Symptom, string, listLine) {
	daemon, taking := "", v.Taking(t)
	for _, l := range taking {
		if slices.Contains(a.Wrapped, l.Program) {
			daemon = l.Program
		}
	}
	if p, _ := v.Chosen(v.ProgramsAt(t.Server)); len(taking) == 0 && p != nil && slices.Contains(a.Wrapped, p.Name) {
		daemon = p.Name
	}
	if daemon == "" {
		return "", nil, "", listLine{}
	}
	for _, kind := range []string{"hosts.allow", "hosts.deny"} {
		for _, f := range a.Files {
			if f.Kind != kind {
				continue
			}
			for _, rule := range program.WrapperRules(f.Lines) {
				m := rule.Matches(daemon, source)
				if m == filter.No {
					continue
				}
				denies := kind == "hosts.deny"
				if rule.Option == "deny" {
					denies = true
				} else if rule.Option == "allow" {
					denies = false
				}
				if m == filter.Unknown || !denies {
					return "", nil, "", listLine{} // let in, or nobody can say
				}
				return "rules/wrapper-deny",
					[]gate.Symptom{
						gate.ServerFirstClosed,
						gate.ServerFirstSilent,
						gate.ServerFirstRefused,
						gate.ClientFirstClosed,
					},
					fmt.Sprintf("%s, line %d (%s), keeps %s from %s", f.Path, rule.Number, rule.Text, source, daemon),
					listLine{
						file:  f.Path,
						text:  rule.Text,
						allow: fmt.Sprintf("%s: %s", daemon, program.Bracketed(source)),
					}
			}
		}
	}
	return "", nil, "", listLine{}
}

// hbaJudge evaluates PostgreSQL's list (pg_hba.conf) for any account: it
// keeps a source out if no line names it, or if a line refuses it for all.
func hbaJudge(
	v *scene.Scene,
	t *scene.Try,
	a *fact.Access,
	source netip.Addr,
) (string, []gate.Symptom, string, listLine) {
	var file *fact.AccessFile
	for i := range a.Files {
		if a.Files[i].Kind == fact.ListHBA {
			if file != nil {
				return "", nil, "", listLine{} // several clusters: which one is asked is not known
			}
			file = &a.Files[i]
		}
	}
	if file == nil || v.Protocol.List != fact.ListHBA {
		return "", nil, "", listLine{}
	}
	encrypted := t.Climb.Handshake != nil && t.Climb.Handshake.Handshake.Ending == fact.Done
	lines, ok := program.HBALines(file, encrypted)
	if !ok {
		return "", nil, "", listLine{}
	}
	text, deciding := "", ""
	for _, l := range lines {
		m := program.HBAMatches(l.Addr, source)
		if m == filter.No {
			continue
		}
		if m == filter.Yes && l.Method == "reject" && l.Databases == "all" && l.Accounts == "all" {
			text = fmt.Sprintf("%s, line %d, rejects %s for every account", file.Path, l.Number, source)
			deciding = l.Text
			break
		}
		if text, deciding = hbaOfAccount(v, t, file, source); text == "" {
			return "", nil, "", listLine{} // some account may come in
		}
		break
	}
	if text == "" {
		text = fmt.Sprintf("no line of %s names %s", file.Path, source)
	}
	bits := source.BitLen()
	return "rules/not-on-list",
		[]gate.Symptom{gate.RefusedByCode, gate.ErrorAnswer, gate.ServerFirstRefused, gate.ClientFirstClosed},
		text,
		listLine{
			file:    file.Path,
			text:    deciding,
			allow:   fmt.Sprintf("host DATABASE ACCOUNT %s/%d scram-sha-256", source, bits),
			changed: file.Changed,
		}
}

// hbaOfAccount is what keeps the account that is asked for out, where nobody got so far as
// to try it: whether it would come encrypted or not.
func hbaOfAccount(v *scene.Scene, t *scene.Try, file *fact.AccessFile, source netip.Addr) (text, deciding string) {
	account := v.Ask.Account
	if account == "" || gate.Symptoms[t.Symptom].Open.Has(gate.Session) {
		return "", ""
	}
	database := scene.DatabaseOf(t.Target.Path, account)
	for _, encrypted := range []bool{true, false} {
		lines, ok := program.HBALines(file, encrypted)
		if !ok {
			return "", ""
		}
		line, found := program.HBAFirst(lines, database, account, source)
		switch {
		case !found && slices.ContainsFunc(lines, func(l program.HBALine) bool { return l.Method != "reject" }):
			return "", "" // some lines name groups, which are not known here
		case found && line.Method != "reject":
			return "", ""
		case found:
			text = fmt.Sprintf("%s, line %d, rejects %s as %s", file.Path, line.Number, source, account)
			deciding = line.Text
		}
	}
	return text, deciding
}

// redisJudge says which setting it is by which a store turned a source away:
// it protects itself while nobody needs a secret.
func redisJudge(
	v *scene.Scene,
	t *scene.Try,
	a *fact.Access,
	source netip.Addr,
) (string, []gate.Symptom, string, listLine) {
	if c := t.Climb.Reply; v.Protocol.List != fact.ListRedis || c == nil || c.Reply.Code != "DENIED" {
		return "", nil, "", listLine{}
	}
	for _, f := range a.Files {
		if f.Kind != fact.ListRedis {
			continue
		}
		where := "by default"
		line := listLine{
			file:    f.Path,
			any:     true,
			allow:   "requirepass SECRET",
			opens:   "every client must send that secret from then on",
			changed: f.Changed,
		}
		if p, _ := v.Chosen(v.ProgramsAt(t.Server)); v.ReadBy(t, f.Changed) == "" &&
			(scene.MainUnit(p) == nil || scene.MainUnit(p).Active != "active") {
			line.unsure = "the store hides which file it was started with"
		}
		for _, l := range f.Lines {
			switch word, value, _ := strings.Cut(strings.TrimSpace(l.Text), " "); strings.ToLower(word) {
			case "requirepass", "user", "aclfile":
				return "", nil, "", listLine{} // there is a secret, or there may be: the reason is another
			case "protected-mode":
				where, line.text = fmt.Sprintf("by line %d", l.Number), strings.TrimSpace(l.Text)
				if strings.TrimSpace(value) == "no" {
					return "", nil, "", listLine{}
				}
			}
		}
		return "rules/not-on-list", []gate.Symptom{gate.ErrorAnswer, gate.RefusedByCode, gate.ClientFirstClosed},
			fmt.Sprintf(
				"protected mode is on (%s, %s) and no secret is set: it keeps %s out",
				f.Path,
				where,
				source,
			), line
	}
	return "", nil, "", listLine{}
}

// plainJudge evaluates a plain list that a card names: who is not on it is
// kept out.
func plainJudge(
	v *scene.Scene,
	t *scene.Try,
	a *fact.Access,
	source netip.Addr,
) (string, []gate.Symptom, string, listLine) {
	for _, f := range a.Files {
		if f.Kind != "list" {
			continue
		}
		for _, l := range f.Lines {
			text, _, _ := strings.Cut(l.Text, "#")
			if p, err := program.NetPattern(strings.TrimSpace(text)); err == nil && p.Contains(source) {
				return "", nil, "", listLine{}
			}
		}
		return "rules/not-on-list", nil, fmt.Sprintf(
				"%s does not name %s",
				f.Path,
				source,
			), listLine{
				file:    f.Path,
				allow:   source.String(),
				changed: f.Changed,
			}
	}
	return "", nil, "", listLine{}
}

// addressesJudge evaluates a list of one of the common shapes, of the program
// that holds the port.
func addressesJudge(
	v *scene.Scene,
	t *scene.Try,
	a *fact.Access,
	source netip.Addr,
) (string, []gate.Symptom, string, listLine) {
	held := v.ServedBy(t)
	for _, f := range a.Files {
		p, ok := v.Programs.Of(held)
		if f.Kind != "addresses" || !ok || p.Name != f.Program {
			continue
		}
		denies, by, known := program.AddressesDeny(f, source)
		if !denies {
			continue
		}
		text, line := fmt.Sprintf(
			"the list of %s in %s does not name %s",
			held,
			f.Path,
			source,
		), listLine{
			file:    f.Path,
			allow:   source.String(),
			changed: f.Changed,
		}
		if by != nil {
			text, line.text = fmt.Sprintf(
				"%s, line %d (%s), keeps %s from %s",
				f.Path,
				by.Number,
				by.Text,
				source,
				held,
			), by.Text
		}
		if !known {
			line.unsure = "names on the list were not looked up"
		}
		return "rules/not-on-list", turnedAway, text, line
	}
	return "", nil, "", listLine{}
}

// wordsJudge evaluates what the settings of a program that nobody knows say of addresses
// by their words. It is a guess, and says so.
func wordsJudge(
	v *scene.Scene,
	t *scene.Try,
	a *fact.Access,
	source netip.Addr,
) (string, []gate.Symptom, string, listLine) {
	held := v.ServedBy(t)
	for _, f := range a.Files {
		if f.Kind != fact.ListByWords || f.Program != held {
			continue
		}
		denies, by, _ := program.AddressesDeny(f, source)
		if !denies {
			continue
		}
		if by == nil {
			by = &f.Lines[0]
		}
		return "rules/not-on-list", turnedAwayFlatly,
			fmt.Sprintf("%s, line %d (%s), seems to keep %s from %s", f.Path, by.Number, by.Text, source, held),
			listLine{
				file:    f.Path,
				text:    by.Text,
				allow:   source.String(),
				changed: f.Changed,
				unsure:  "what the line does is told by its words alone",
			}
	}
	return "", nil, "", listLine{}
}

// turnedAwayFlatly is the symptoms of a list without an answer that may have another
// reason.
var turnedAwayFlatly = []gate.Symptom{
	gate.ServerFirstClosed,
	gate.ServerFirstRefused,
	gate.ClientFirstClosed,
	gate.RefusedByCode,
}

// mysqlJudge reads a database no account of which may come from a source.
func mysqlJudge(
	v *scene.Scene,
	t *scene.Try,
	a *fact.Access,
	source netip.Addr,
) (string, []gate.Symptom, string, listLine) {
	for _, f := range a.Files {
		if f.Kind != fact.ListMySQL || v.Protocol.List != fact.ListMySQL {
			continue
		}
		if here, _, known := program.MySQLAccounts(f, "", source); len(here) > 0 || !known {
			continue
		}
		return "rules/not-on-list",
			[]gate.Symptom{gate.ServerFirstRefused, gate.RefusedByCode},
			fmt.Sprintf("no account of the database on %s may come from %s", v.Host(t.Server), source),
			listLine{
				file:  "the accounts of the database",
				allow: fmt.Sprintf("CREATE USER ACCOUNT@'%s' IDENTIFIED BY SECRET", source),
			}
	}
	return "", nil, "", listLine{}
}
