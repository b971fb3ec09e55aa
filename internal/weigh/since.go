package weigh

import (
	"cmp"
	"crypto/x509"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/redact"
	"uakari/internal/trail"
)

// mostChanged bounds how many changes are told.
const mostChanged = 30

// noted is one line of what a host was like, with when it came to be, as far as
// the host itself dates it.
type noted struct {
	line string
	at   time.Time
}

// notes is what a set says of each host: by the host's name and what is noted.
type notes struct {
	order []string
	lines map[string][]noted
	facts map[string][]string // that were looked at for it
}

// Since is what changed between a run in which an endpoint was reached, and
// another: what bears on a connection and differs, on the hosts that both saw,
// what explains a cause of the second first. Numbers of processes, counters and
// ages are no changes.
func Since(before, now fact.Set, causes []trail.Cause) []trail.Changed {
	was, is := noteAll(before), noteAll(now)
	var list []trail.Changed
	for _, place := range is.order {
		old, seen := was.lines[place]
		if !seen {
			continue // nobody looked there then
		}
		host, rest, _ := strings.Cut(place, "\x00")
		what, _, _ := strings.Cut(rest, "\x00")
		added, gone := apart(is.lines[place], old), apart(old, is.lines[place])
		if what == settingsFiles {
			added, gone = inLines(added, gone, old, is.lines[place])
		}
		for i := range max(len(added), len(gone)) {
			c := trail.Changed{Host: host, What: what}
			if i < len(added) {
				c.Now, c.At = added[i].line, added[i].at
			}
			if i < len(gone) {
				c.Was = gone[i].line
			}
			c.Explains = explains(causes, what, is.facts[place])
			list = append(list, c)
		}
	}
	slices.SortStableFunc(list, func(a, b trail.Changed) int {
		return cmp.Compare(order(a), order(b))
	})
	return list[:min(len(list), mostChanged)]
}

// order puts what explains a cause before what does not.
func order(c trail.Changed) int {
	if c.Explains != "" {
		return 0
	}
	return 1
}

// What follows the name of a settings file in a note.
const (
	marked = ": " // and a mark of its text
	unread = ", which nobody could read"

	markedText = marked + "text "
)

// apart is the lines of one list that the other lacks. A settings file that
// only one of the two runs could read has not changed, as far as is known.
func apart(list, other []noted) []noted {
	return slices.DeleteFunc(slices.Clone(list), func(n noted) bool {
		file, vague := strings.CutSuffix(n.line, unread)
		name, _, _ := strings.Cut(n.line, marked)
		return slices.ContainsFunc(other, func(o noted) bool {
			return o.line == n.line || o.line == name+unread || vague && strings.HasPrefix(o.line, file+marked) ||
				otherMarks(n.line, o.line)
		})
	})
}

// otherMarks reports whether two notes have marks of one file that were made with two keys:
// nobody knows whether its text differs.
func otherMarks(one, other string) bool {
	file, mark, ok := strings.Cut(one, markedText)
	otherFile, otherMark, also := strings.Cut(other, markedText)
	return ok && also && file == otherFile && !redact.Comparable(mark, otherMark)
}

// settingsFiles is what changes of settings files are called.
const settingsFiles = "settings files"

// inLines is changes of settings files by the settings in them, where both runs
// kept some: the mark of a file whose settings tell the change says nothing more.
func inLines(added, gone, was, is []noted) (_, _ []noted) {
	file := func(n noted) string { name, _, _ := strings.Cut(n.line, marked); return name }
	isSetting := func(n noted) bool { return strings.Contains(n.line, " = ") }
	both := func(name string) bool {
		has := func(n noted) bool { return isSetting(n) && file(n) == name }
		return slices.ContainsFunc(was, has) && slices.ContainsFunc(is, has)
	}
	told := map[string]bool{} // files of which a setting differs
	for _, n := range slices.Concat(added, gone) {
		if isSetting(n) && both(file(n)) {
			told[file(n)] = true
		}
	}
	rest := func(list []noted) []noted {
		return slices.DeleteFunc(list, func(n noted) bool { return isSetting(n) != told[file(n)] })
	}
	return rest(added), rest(gone)
}

// explains is the cause that a change bears on: one that rests on a fact that
// shows the change, and of whose rung it is.
func explains(causes []trail.Cause, what string, facts []string) string {
	for _, cause := range causes {
		rests := slices.ContainsFunc(cause.Because, func(id string) bool { return slices.Contains(facts, id) })
		if cause.Blocking && rests && slices.Contains(bears[string(cause.Rung)], what) {
			return cause.ID
		}
	}
	return ""
}

// bears is which notes can explain a cause of a rung.
var bears = map[string][]string{
	"settings": {"settings of the client", "proxy", "who holds the port"},
	"service": {"settings files", "packages", "the service", "the program", "containers", "settings of the server",
		"who holds the port"},
	"ports":  {"settings files", "who holds the port", "the program", "containers", "the service"},
	"rules":  {"packet filters", "routes", "kernel settings", "access lists"},
	"names":  {"addresses of the name", "hosts file", "resolvers"},
	"certs":  {"the clock", "settings files", "packages", "the certificate", "trust", "TLS library"},
	"login":  {"the clock", "settings files", "the account", "access lists"},
	"answer": {"settings files", "packages", "the service", "containers", "the program", "who holds the port"},
}

func noteAll(set fact.Set) notes {
	n := notes{lines: map[string][]noted{}, facts: map[string][]string{}}
	hosts := map[string]string{}
	for _, v := range set.Vantages {
		hosts[v.ID] = v.Host
	}
	for i := range set.Facts {
		f := &set.Facts[i]
		if f.Order.Target.Again != 0 {
			continue // a second look of the same run
		}
		noteOf(f, set.Ask.Endpoint, func(what, line string, at time.Time) {
			place := hosts[f.Vantage] + "\x00" + what + "\x00" + askedOf(f)
			if _, seen := n.lines[place]; !seen {
				n.order = append(n.order, place)
				n.lines[place] = nil
			}
			if !slices.Contains(n.facts[place], f.ID) {
				n.facts[place] = append(n.facts[place], f.ID)
			}
			if line != "" && !slices.ContainsFunc(n.lines[place], func(have noted) bool { return have.line == line }) {
				n.lines[place] = append(n.lines[place], noted{line, at})
			}
		})
	}
	return n
}

// askedOf is what a look was at, where a host may be asked the same of several
// things: what was asked in one run alone has not changed.
func askedOf(f *fact.Fact) string {
	switch {
	case f.HostsFile != nil:
		return f.HostsFile.Name
	case f.Answer != nil:
		return f.Answer.Asked
	case f.Proxy != nil:
		return f.Order.Target.Scheme
	case f.Handshake != nil:
		return fmt.Sprint(f.Order.Target.Addr, f.Order.Target.Port)
	case f.Account != nil:
		return f.Account.Name
	}
	return ""
}

// noteOf gives what one fact says. What was looked at and found empty is noted
// by an empty line.
func noteOf(f *fact.Fact, e fact.Endpoint, note func(what, line string, at time.Time)) {
	plain := func(what string, lines ...string) {
		note(what, "", time.Time{})
		for _, line := range lines {
			note(what, line, time.Time{})
		}
	}
	switch {
	case f.Identity != nil:
		note("the host's start", "it was started "+stampOf(f.Identity.Boot), f.Identity.Boot)
		plain("the system", strings.TrimSpace(f.Identity.Name+" "+f.Identity.Kernel))
		if f.Identity.TimeFrom != "" {
			plain("whose time it follows", f.Identity.TimeFrom)
		}
		for _, name := range f.Identity.Also {
			plain("another name of it, "+name, "it answers to that")
		}
	case f.Listeners != nil && e.Port == 0: // nobody asked for an endpoint: all that a client might
		note("who listens", "", time.Time{})
		for _, l := range f.Listeners.All {
			if l.Port < filter.Ephemeral.Low {
				note(
					"who listens",
					strings.TrimSpace(
						fmt.Sprintf("%s on %s %s", cmp.Or(l.Program, "a process"), netip.AddrPortFrom(l.Addr, l.Port),
							l.Unit),
					),
					l.Since,
				)
			}
		}
	case f.Listeners != nil:
		note("who holds the port", "", time.Time{})
		for _, l := range f.Listeners.On(e.Transport, e.Port) {
			at := l.Addr.String()
			note(
				"who holds the port",
				strings.TrimSpace(fmt.Sprintf("%s on %s %s", cmp.Or(l.Program, "a process"), at, l.Unit)),
				l.Since,
			)
		}
	case f.Service != nil:
		for _, p := range f.Service.Programs {
			note("the program", strings.TrimSpace(p.Name+" "+p.Path), time.Time{})
			if p.Package.Name != "" {
				note("packages", strings.TrimSpace(p.Package.Name+" "+p.Package.Version), p.Package.Since)
			}
			for _, s := range p.Files {
				mark := unread
				if s.Mark != "" {
					mark = markedText + s.Mark
				}
				note(settingsFiles, s.Path+mark, s.Changed)
				for _, setting := range s.Says {
					note(settingsFiles, s.Path+marked+setting, s.Changed)
				}
			}
			for _, u := range p.Units {
				note("the service", strings.TrimSpace(fmt.Sprintf("%s is %s", u.Name, cmp.Or(u.Active, u.Load))),
					u.Since)
			}
		}
	case f.Containers != nil:
		note("containers", "", time.Time{})
		for _, c := range onTheWay(f.Containers.List, e) {
			note(
				"containers",
				fmt.Sprintf(
					"%s is %s, of the image %s",
					c.Called(),
					cmp.Or(c.State, "running"),
					cmp.Or(c.Image, "that is not known"),
				),
				c.Started,
			)
		}
	case f.Answer != nil:
		var addrs []string
		for _, a := range f.Answer.Addrs {
			addrs = append(addrs, strings.TrimSuffix(f.Answer.Asked, ".")+" is "+a.String())
		}
		plain("addresses of the name", addrs...)
	case f.Handshake != nil && len(f.Handshake.Chain) > 0:
		if cert, err := x509.ParseCertificate(f.Handshake.Chain[0]); err == nil {
			note(
				"the certificate",
				fmt.Sprintf(
					"%s of %s, valid until %s",
					cmp.Or(cert.Subject.CommonName, "one without a name"),
					cmp.Or(cert.Issuer.CommonName, "itself"),
					cert.NotAfter.UTC().Format(time.DateOnly),
				),
				cert.NotBefore,
			)
		}
	case f.Clock != nil:
		// A clock is never right to the second; what breaks something is minutes.
		plain("the clock")
		for _, c := range f.Clock.List {
			if off := time.Duration(c.AheadMS * float64(time.Millisecond)).Round(time.Minute); off != 0 {
				plain("the clock", fmt.Sprintf("%s ahead of %s", off, c.Server))
			}
		}
	case f.Library != nil:
		plain("TLS library", f.Saw)
	case f.Account != nil:
		plain("the account", f.Saw)
	default:
		standOf(f, func(f *fact.Fact, what string, lines ...string) { plain(kindOf(f, what), lines...) })
	}
}

// onTheWay is the containers that an endpoint may hang on: those that have its port or its
// address, and those that share a pod or a network of their own with them. All, where nobody
// asked for an endpoint.
func onTheWay(list []fact.Container, e fact.Endpoint) []fact.Container {
	common := []string{"", "podman", "bridge", "host", "none"} // networks that all containers are in
	pods, networks := map[string]bool{}, map[string]bool{}
	has := func(c fact.Container) bool {
		return e.Port == 0 || c.HostNet ||
			slices.ContainsFunc(c.Published, func(p fact.Published) bool {
				return p.Port == e.Port && cmp.Or(p.Transport, "tcp") == cmp.Or(e.Transport, "tcp")
			}) ||
			slices.ContainsFunc(c.Held, func(a fact.Address) bool { return a.Prefix.Addr().String() == e.Host })
	}
	for _, c := range list {
		if !has(c) {
			continue
		}
		pods[c.Pod] = c.Pod != ""
		for _, n := range c.Networks {
			networks[n.Name] = !slices.Contains(common, n.Name)
		}
	}
	var on []fact.Container
	for _, c := range list {
		if c.ID != "" && (has(c) || pods[c.Pod] ||
			slices.ContainsFunc(c.Networks, func(n fact.Network) bool { return networks[n.Name] })) {
			on = append(on, c)
		}
	}
	return on
}

// kindOf is how a change of what settings say is called.
func kindOf(f *fact.Fact, what string) string {
	switch {
	case f.HostsFile != nil:
		return "hosts file"
	case f.Setup != nil:
		return "resolvers"
	case f.Access != nil:
		return "access lists"
	case f.Proxy != nil:
		return "proxy"
	case f.Settings != nil && f.Order.Target.Name == "server":
		return "settings of the server"
	case f.Settings != nil:
		return "settings of the client"
	}
	return what
}

func stampOf(t time.Time) string {
	if t.IsZero() {
		return "at a time that it does not tell"
	}
	return t.UTC().Truncate(time.Minute).Format("2006-01-02 15:04")
}
