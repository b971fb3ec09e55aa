package weigh

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
)

// recordReadings reads the service record that the card says clients find the
// server by.
func (v *view) recordReadings(w *wants, t *try) []Reading {
	if v.ask.Card == nil || v.ask.Card.ServiceRecord == "" {
		return nil
	}
	name := strings.TrimSuffix(v.ask.Card.ServiceRecord, ".")
	w.add(Want{Look: fact.LookServices, At: fact.Client, Target: fact.Target{Name: name}, Gate: Name})
	var none []*fact.Fact
	found, asked := []fact.ServiceRecord(nil), 0
	for _, f := range v.facts(v.client, fact.LookServices) {
		switch {
		case f.ServiceRecords == nil || f.Order.Target.Name != name:
			continue
		case len(f.ServiceRecords.List) > 0:
			found = append(found, f.ServiceRecords.List...)
		case f.ServiceRecords.Outcome == fact.NoSuchName || f.ServiceRecords.Outcome == fact.NoData:
			none = append(none, f)
		}
		asked++
	}
	_, zone, _ := strings.Cut(strings.TrimPrefix(name[strings.Index(name, ".")+1:], "_"), ".")
	r := Reading{Gate: Name, Cause: "names/no-service-record", Apart: true, Because: factIDs(none...), Vantage: v.client,
		Values: values{"record": name, "zone": zone, "port": fmt.Sprint(v.ask.Endpoint.Port), "host": strings.TrimSuffix(v.ask.Endpoint.Host, ".")}}
	switch {
	case asked == 0 || len(found) == 0 && len(none) == 0:
		return nil // nobody has said anything yet, or could
	case len(found) == 0:
		r.Summary = fmt.Sprintf("clients find the server by %s, and there is no such record", name)
		return []Reading{r}
	}
	e := v.ask.Endpoint
	if slices.ContainsFunc(found, func(s fact.ServiceRecord) bool {
		return s.Port == e.Port && strings.EqualFold(s.Target, strings.TrimSuffix(e.Host, "."))
	}) {
		return nil
	}
	r.Harmless = true
	r.Summary = fmt.Sprintf("%s leads clients to %s:%d, not to %s:%d", name, found[0].Target, found[0].Port, e.Host, e.Port)
	return []Reading{r}
}

// mostRecords bounds how many servers of a domain are tried.
const mostRecords = 4

// tryRecords weighs the servers that service records name for a domain, in the
// order in which clients try them (RFC 2782): the least priority first, and of
// one priority the greatest weight.
func (v *view) tryRecords(w *wants, l *lookup, target fact.Target, depth int) []*try {
	record := endpoint.RecordOf(v.ask.Endpoint, target.Name)
	if depth > 0 || record == "" || !l.settled {
		return nil
	}
	w.add(Want{Look: fact.LookServices, At: fact.Client, Target: fact.Target{Name: record}, Gate: Name})
	var list []fact.ServiceRecord
	for _, f := range v.facts(v.client, fact.LookServices) {
		if f.ServiceRecords == nil || f.Order.Target.Name != record {
			continue
		}
		for _, s := range f.ServiceRecords.List {
			if s.Target != "" && s.Target != "." && !slices.Contains(list, s) {
				list = append(list, s)
			}
		}
	}
	slices.SortStableFunc(list, func(a, b fact.ServiceRecord) int {
		return cmp.Or(cmp.Compare(a.Priority, b.Priority), cmp.Compare(b.Weight, a.Weight), strings.Compare(a.Target, b.Target))
	})
	var tries []*try
	for _, s := range list[:min(len(list), mostRecords)] {
		next := target
		next.Name, next.Port = strings.TrimSuffix(s.Target, "."), s.Port
		v.led[next.Name] = fmt.Sprintf("%s leads to %s: ", record, endpoint.HostPort(next.Name, next.Port))
		tries = append(tries, v.tryName(w, next, depth+1)...)
	}
	return tries
}

// noRecord adds to the reason why a name gives nothing that no service record
// leads on from it either, or that one says the service is not there (RFC 2782,
// a target of ".").
func (v *view) noRecord(t *try) {
	record := endpoint.RecordOf(v.ask.Endpoint, t.target.Name)
	for _, f := range v.facts(v.client, fact.LookServices) {
		s := f.ServiceRecords
		if record == "" || s == nil || f.Order.Target.Name != record {
			continue
		}
		text := ""
		switch {
		case len(s.List) > 0:
			text = "; " + record + " says that the service is not offered there"
		case s.Outcome == fact.NoSuchName || s.Outcome == fact.NoData:
			text = "; there is no service record " + record + " either"
		}
		for _, j := range t.verdict.causes {
			if j.Gate == Name && text != "" && (j.Cause == "names/no-address" || j.Cause == "names/no-such-name") {
				j.Summary += text
				j.Because = union(j.Because, factIDs(f))
				return
			}
		}
	}
}

// frontReading reads an address that belongs to a gateway which does not
// carry the port.
func (v *view) frontReading(w *wants, t *try, r Reading) Reading {
	for _, at := range v.set.Vantages {
		if at.Role != fact.Gateway {
			continue
		}
		w.add(Want{Look: fact.LookAddresses, At: fact.Gateway, On: at.ID, Gate: Name})
		f, held := v.addresses(at.ID)
		if held == nil || !held.Holds(t.target.Addr) {
			continue
		}
		w.add(Want{Look: fact.LookListeners, At: fact.Gateway, On: at.ID, Target: fact.Target{Port: t.target.Port, Scheme: t.target.Scheme}, Gate: Name})
		seen, list := v.listeners(at.ID)
		if list == nil || len(list.On(v.ask.Endpoint.Transport, t.target.Port)) > 0 {
			continue
		}
		r.Cause = "names/points-at-front"
		r.Summary = fmt.Sprintf("%s gives %s, which is %s, and nothing there takes port %d; %s has %s", t.target.Name, t.target.Addr, at.Host, t.target.Port, r.Values["server"], r.Values["right"])
		r.Because = union(r.Because, factIDs(f, seen))
		r.Values["front"], r.Values["port"] = at.Host, fmt.Sprint(t.target.Port)
	}
	return r
}

// lettingIn reports whether a line of a list lets clients in by their names:
// of lists that are asked, by services that look the names up.
func (v *view) lettingIn(a *fact.Access, file fact.AccessFile, line fact.Line) bool {
	fields := strings.Fields(line.Text)
	if len(fields) == 0 || strings.HasPrefix(fields[0], "#") {
		return false
	}
	switch file.Kind {
	case "hosts.allow":
		return len(a.Wrapped) > 0 && !strings.EqualFold(fields[len(fields)-1], "deny")
	case "pg_hba":
		return v.scheme.Wire == "postgres" && !slices.Contains(fields, "reject")
	case "mysql":
		return v.scheme.Wire == "mysql"
	case "sshd":
		var lines []sshLine
		for _, f := range a.Files {
			if f.Kind == "sshd" {
				lines = append(lines, sshLines(nil, f, 0)...)
			}
		}
		return v.scheme.Wire == "ssh" && strings.EqualFold(fields[0], "AllowUsers") && usesNames(lines)
	}
	return false
}

// reverseReading reads a list that names this client, whose address does not
// lead back to that name: the service cannot know that it is meant.
func (v *view) reverseReading(w *wants, t *try, source netip.Addr) (Reading, bool) {
	if t.server == "" || !source.IsValid() {
		return Reading{}, false
	}
	for _, f := range v.facts(t.server, fact.LookAccess) {
		if f.Access == nil {
			continue
		}
		for _, file := range f.Access.Files {
			for _, line := range file.Lines {
				name := namedIn(line.Text, v.host(v.client))
				if name == "" || !v.lettingIn(f.Access, file, line) {
					continue
				}
				target := fact.Target{Addr: source}
				w.add(Want{Look: fact.LookReverse, At: fact.Server, On: t.server, Target: target, Gate: Door})
				for _, back := range v.facts(t.server, fact.LookReverse) {
					if back.Reverse == nil || back.Order.Target != target || slices.Contains(back.Reverse.Back, name) {
						continue
					}
					says := "has no name"
					if len(back.Reverse.Names) > 0 {
						says = "leads to " + strings.Join(back.Reverse.Names, ", ")
					}
					return Reading{Gate: Door, Cause: "names/reverse-differs", Apart: true, Because: factIDs(f, back), Vantage: t.server,
						Summary: fmt.Sprintf("%s, line %d, lets %s in by name, and its address %s %s, looked up on %s", file.Path, line.Number, name, source, says, v.host(t.server)),
						Values:  v.place(t, values{"address": source.String(), "name": name, "zone": "the reverse zone of " + source.String(), "server": v.host(t.server)})}, true
				}
			}
		}
	}
	return Reading{}, false
}

// namedIn is the full name of a host in a line, if its first label is the
// host's; "" if there is none.
func namedIn(line, host string) string {
	for _, word := range strings.FieldsFunc(line, func(r rune) bool { return r == ' ' || r == '\t' || r == ',' || r == ';' || r == '@' }) {
		first, _, dotted := strings.Cut(word, ".")
		if dotted && host != "" && strings.EqualFold(first, host) {
			return strings.ToLower(strings.TrimSuffix(word, "."))
		}
	}
	return ""
}
