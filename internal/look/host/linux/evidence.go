//go:build linux

package linux

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/coreos/go-systemd/v22/dbus"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/program"
	"uakari/internal/protocol"
)

// Bounds on how many units are looked through for a port, and on how much is
// read of each.
const (
	mostStopped      = 80
	mostClaims       = 4
	mostOwnSettings  = 40
	mostSettingsText = 256 << 10
)

// evident is the programs of claimants, with what the manager says of them.
// Those that are known already, and only as one of the scheme, are marked.
func evident(ctx context.Context, env look.Env, port uint16, known []fact.Program) []fact.Program {
	held := slices.ContainsFunc(known, func(p fact.Program) bool { return p.Why == "holder" })
	found := fact.Service{Programs: claimants(ctx, port, held, known)}
	env.Card = nil
	if len(found.Programs) == 0 || askManager(ctx, &found, env) != nil ||
		findProcesses(found.Programs, env.Registry()) != nil {
		return nil
	}
	return found.Programs
}

// claimants is the units that should hold a port and do not: those that failed,
// that are started again and again, that are enabled and do not run, whose
// start went well and left nothing running, or that run and hold another, and
// whose own command, settings, sockets, name or log say that the port is theirs.
// No table of programs is asked.
func claimants(ctx context.Context, port uint16, held bool, known []fact.Program) []fact.Program {
	conn, err := dbus.NewWithContext(ctx)
	if err != nil {
		return nil // askManager says so
	}
	defer conn.Close()
	states := []string{"failed", "activating", "active", "inactive", "deactivating"}
	units, err := conn.ListUnitsByPatternsContext(ctx, states, []string{"*.service"})
	if err != nil {
		return nil
	}
	var list []fact.Program
	looked, since := 0, holdingSince(known)
	search := claimSearch{conn: conn, port: port, etc: foldersOfEtc(), names: serviceNames(port)}
	for _, u := range units {
		if looked == mostStopped || len(list) == mostClaims || ctx.Err() != nil {
			break
		}
		at := slices.IndexFunc(known, func(p fact.Program) bool {
			return slices.ContainsFunc(p.Units, func(k fact.Unit) bool { return k.Name == u.Name })
		})
		if strings.HasPrefix(u.Name, "systemd-") || at >= 0 && known[at].Why != "scheme" {
			continue
		}
		if held && (u.ActiveState == "inactive" || u.ActiveState == "deactivating") &&
			!startedAfter(ctx, conn, u.Name, since) {
			continue // it does not run for another reason
		}
		claim := claimSearch.claims
		if u.ActiveState == "active" && u.SubState != "exited" && !restarted(ctx, conn, u.Name) {
			switch {
			case !held && at >= 0:
				continue // what is known of it says more
			case !held && search.listening == nil:
				search.listening = listeningUnits()
				fallthrough
			case !held:
				claim = claimSearch.left
			case !startedAfter(ctx, conn, u.Name, since):
				continue
			default:
				claim = claimSearch.misses // it runs, and may have found its port taken
			}
		}
		looked++
		p, ok := claim(search, ctx, u.Name, u.ActiveState)
		switch {
		case ok && at >= 0:
			known[at].Why, known[at].Settings, known[at].Ports = p.Why, p.Settings, p.Ports
		case ok:
			list = append(list, p)
		}
	}
	list = append(list, shutSockets(ctx, conn, port)...)
	for _, p := range known { // what is known of them says more
		for _, u := range p.Units {
			delete(search.listening, u.Name)
			units = append(units, dbus.UnitStatus{Name: u.Name})
		}
	}
	if len(list) == 0 && len(search.listening) > 0 {
		list = leftLong(ctx, conn, search.listening, port)
	}
	meant := func(p fact.Program) bool {
		return len(p.Processes) > 0 || slices.ContainsFunc(p.Units, fact.Unit.Wanted)
	}
	if len(list) == 0 && !held {
		return search.forgotten(ctx, units, slices.ContainsFunc(known, meant))
	}
	return list
}

// claimSearch looks whether units have a port as their own.
type claimSearch struct {
	conn *dbus.Conn
	port uint16
	etc  map[string][]string // see foldersOfEtc
	// listening is the units that hold a listening port; nil: not looked at.
	listening map[string]bool
	ran       map[string]bool // units that ended, and of which the manager knows no more
	names     []string        // of the port, in services(5)
}

// forgotten is the programs of units that ended and that nothing wants to run, if the port is
// their own: that they do not run may be in order, and where others are meant to run only one
// counts that said that it listened there.
func (c claimSearch) forgotten(
	ctx context.Context,
	loaded []dbus.UnitStatus,
	others bool,
) (list []fact.Program) {
	c.ran = ended(ctx, loaded)
	for _, name := range slices.Sorted(maps.Keys(c.ran)) {
		p, ok := c.claims(ctx, name, "inactive")
		listened := ok && c.listened(ctx, name)
		if !ok || others && !listened {
			continue
		}
		if !listened {
			p.Settings = fact.ByDefault
		}
		if list = append(list, p); len(list) == mostClaims {
			break
		}
	}
	return list
}

// mostEnded bounds the lines of the manager's own that are read for units that ended.
const mostEnded = 600

// ended is the units that ran since the host was started and ended, and that the manager
// keeps no state of: those that nothing wants to run.
func ended(ctx context.Context, loaded []dbus.UnitStatus) map[string]bool {
	lines, err := journal(ctx, "-b", "_PID=1", "MESSAGE_ID="+stoppedMessage, "-n", fmt.Sprint(mostEnded))
	if err != nil {
		return nil // what the manager knows of is there all the same
	}
	names := map[string]bool{}
	for _, l := range slices.Backward(lines) {
		if strings.HasSuffix(l.Unit, ".service") && len(names) < mostStopped {
			names[l.Unit] = true
		}
	}
	for _, u := range loaded {
		delete(names, u.Name)
	}
	return names
}

// isSet reports whether a text of settings gives the port to something that listens.
func (c claimSearch) isSet(text string) bool {
	return common.SettingNamesPort(text, c.port) || common.SettingNamesService(text, c.names)
}

// unit is what the manager says of a unit, and its command; no command where it says none.
func (c claimSearch) unit(ctx context.Context, name string) (p properties, command []string) {
	props, err := c.conn.GetAllPropertiesContext(ctx, name)
	if err != nil {
		return nil, nil
	}
	p = props
	return p, p.command("ExecStart")
}

// behindUnit is the program of a unit that a port may be of.
func behindUnit(unit string, command []string, port uint16) fact.Program {
	return fact.Program{
		Name: filepath.Base(command[0]), Path: installed([]string{command[0]}), Why: "evidence", Ports: []uint16{port},
		Units: []fact.Unit{{Name: unit}},
	}
}

// listeningUnits is the units whose processes hold a listening port of TCP; an empty set
// where nobody may see whose they are.
func listeningUnits() map[string]bool {
	units := map[string]bool{}
	sockets, err := procListening("/proc/net", "tcp")
	if err != nil {
		return units
	}
	inodes := map[uint32]int{}
	for _, each := range sockets {
		inodes[each.Inode] = 0
	}
	if _, err := owners(inodes); err != nil {
		return units
	}
	for _, pid := range inodes {
		if pid != 0 {
			units[unitOf(pid)] = true
		}
	}
	return units
}

// left is the program of a unit that runs and does not hold the port, if it listens nowhere
// and its settings name that, or if it listens elsewhere and the port is what it has where
// its settings name none.
func (c claimSearch) left(ctx context.Context, name, _ string) (fact.Program, bool) {
	p, command := c.unit(ctx, name)
	if len(command) == 0 {
		return fact.Program{}, false
	}
	found := behindUnit(name, command, c.port)
	byDefault := calledAs(c.names, name, found.Name)
	for _, path := range settingsOfUnit(name, p, command, c.etc) {
		text, err := file.Head(path, mostSettingsText)
		// One that listens may name a port of another, as gateways do.
		if err == nil && !c.listening[name] && c.isSet(string(text)) {
			found.Settings = path
			return found, true
		}
		byDefault = byDefault || err == nil && common.CommentNamesPort(string(text), c.port)
	}
	found.Settings = fact.ByDefault
	return found, byDefault && c.listening[name]
}

// leftLong is the program of the unit, of those that listen, that said before that it
// listened on the port, or wanted to.
func leftLong(ctx context.Context, conn *dbus.Conn, units map[string]bool, port uint16) (list []fact.Program) {
	const most = 1500 // lines of all of them
	words := []string{"-n", fmt.Sprint(most)}
	for name := range units {
		if strings.HasSuffix(name, ".service") && !strings.HasPrefix(name, "systemd-") {
			words = append(words, "-u", name)
		}
	}
	lines, err := journal(ctx, words...)
	if err != nil || len(words) == 2 {
		return nil
	}
	for _, l := range lines {
		had := func(p fact.Program) bool { return p.Units[0].Name == l.Unit }
		if !units[l.Unit] || !common.SaidListening(l.Text, port) && !wanted(l.Text, port) || len(list) == mostClaims ||
			slices.ContainsFunc(list, had) {
			continue
		}
		props, err := conn.GetAllPropertiesContext(ctx, l.Unit)
		if err != nil {
			continue
		}
		if command := properties(props).command("ExecStart"); len(command) > 0 {
			found := behindUnit(l.Unit, command, port)
			found.Settings = fact.ByDefault
			list = append(list, found)
		}
	}
	return list
}

// wanted reports whether a line of a start says that a port could not be had.
func wanted(line string, port uint16) bool {
	m, _, ok := program.DoesNotStart(line)
	return ok && m.Cause == "service/port-taken" && common.SaidPort(line, port)
}

// forNow is how long a unit may run and still be one that is started again and again.
const forNow = time.Minute

// restarted reports whether the manager started a unit again by itself just now:
// it may run for the moment only.
func restarted(ctx context.Context, conn *dbus.Conn, name string) bool {
	n, err := conn.GetServicePropertyContext(ctx, name, "NRestarts")
	if err != nil {
		return false
	}
	if times, _ := n.Value.Value().(uint32); times == 0 {
		return false
	}
	since, err := conn.GetUnitPropertyContext(ctx, name, "ActiveEnterTimestamp")
	if err != nil {
		return false
	}
	micros, _ := since.Value.Value().(uint64)
	return time.Since(time.UnixMicro(int64(micros))) < forNow
}

// holdingSince is when whoever holds the port was started; zero if nobody knows.
func holdingSince(known []fact.Program) (since time.Time) {
	for _, p := range known {
		for _, proc := range p.Processes {
			if p.Why == "holder" && (since.IsZero() || proc.Since.Before(since)) {
				since = proc.Since
			}
		}
	}
	return since
}

// startedAfter reports whether a unit was started later than somebody else took the
// port.
func startedAfter(ctx context.Context, conn *dbus.Conn, name string, taken time.Time) bool {
	at, err := conn.GetUnitPropertyContext(ctx, name, "InactiveExitTimestamp")
	if err != nil || taken.IsZero() {
		return false
	}
	micros, _ := at.Value.Value().(uint64)
	return micros > 0 && time.UnixMicro(int64(micros)).After(taken)
}

// misses is the program of a unit that runs and said at its start that the port was
// taken.
func (c claimSearch) misses(ctx context.Context, name, _ string) (fact.Program, bool) {
	lines, err := journal(ctx, "-b", "-u", name, "-n", fmt.Sprint(mostLog))
	if err != nil {
		return fact.Program{}, false
	}
	taken := func(named bool) bool {
		return slices.ContainsFunc(lines, func(l fact.LogLine) bool {
			m, _, ok := program.DoesNotStart(l.Text)
			return ok && m.Cause == "service/port-taken" && !named || wanted(l.Text, c.port)
		})
	}
	if !taken(false) {
		return fact.Program{}, false
	}
	p, command := c.unit(ctx, name)
	if len(command) == 0 {
		return fact.Program{}, false
	}
	settings := settingsOfUnit(name, p, command, c.etc)
	at := slices.IndexFunc(settings, func(path string) bool {
		text, err := file.Head(path, mostSettingsText)
		return err == nil && c.isSet(string(text))
	})
	found := behindUnit(name, command, c.port)
	if at >= 0 {
		found.Settings = settings[at]
	}
	return found, at >= 0 || taken(true) // else another port may be meant
}

// shutSockets is the socket units that should hold a port for a service, and failed or
// are enabled and not listening.
func shutSockets(ctx context.Context, conn *dbus.Conn, port uint16) (list []fact.Program) {
	units, err := conn.ListUnitsByPatternsContext(ctx, []string{"failed", "inactive"}, []string{"*.socket"})
	if err != nil {
		return nil
	}
	for _, u := range units[:min(len(units), mostStopped)] {
		props, err := conn.GetAllPropertiesContext(ctx, u.Name)
		if err != nil {
			continue
		}
		p := properties(props)
		meant := u.ActiveState == "failed" || p.enabled() == "enabled" || !p.started().IsZero()
		names := func(l string) bool { return common.NamesPort(l, port) }
		if !meant || !slices.ContainsFunc(p.pairs("Listen"), names) {
			continue
		}
		list = append(list, fact.Program{
			Name: strings.TrimSuffix(u.Name, ".socket"), Path: p.text("FragmentPath"), Why: "evidence",
			Settings: u.Name,
			Ports:    []uint16{port}, Units: []fact.Unit{{Name: u.Name}},
		})
	}
	return list
}

// claims is the program of one unit, if the port is its own.
func (c claimSearch) claims(ctx context.Context, name, state string) (fact.Program, bool) {
	p, command := c.unit(ctx, name)
	if len(command) == 0 {
		return fact.Program{}, false
	}
	if state == "inactive" && !slices.Contains([]string{"enabled", "enabled-runtime"}, p.enabled()) &&
		p.started().IsZero() && !c.ran[name] {
		return fact.Program{}, false // it was never meant to run
	}
	if state == "inactive" && p.text("UnitFileState") == "transient" {
		return fact.Program{}, false // it was started for the moment
	}
	if t := p.text("Type"); t == "oneshot" && state != "failed" {
		return fact.Program{}, false
	}
	found := behindUnit(name, command, c.port)
	for _, word := range append(slices.Clone(command[1:]), p.list("Environment")...) {
		if common.NamesPort(word, c.port) {
			found.Settings = name
			return found, true
		}
	}
	for _, socket := range p.list("TriggeredBy") {
		if more, err := c.conn.GetAllPropertiesContext(ctx, socket); err == nil &&
			slices.ContainsFunc(properties(more).pairs("Listen"),
				func(l string) bool { return common.NamesPort(l, c.port) }) {
			found.Settings = socket
			return found, true
		}
	}
	// What is called as the service of the port is ("smtpd") has it as its own.
	byDefault := slices.ContainsFunc(protocol.UsualOn(c.port), func(scheme string) bool {
		return found.Name == scheme || found.Name == scheme+"d"
	})
	byDefault = byDefault || calledAs(c.names, name, found.Name)
	for _, path := range settingsOfUnit(name, p, command, c.etc) {
		text, err := file.Head(path, mostSettingsText)
		if err == nil && c.isSet(string(text)) {
			found.Settings = path
			return found, true
		}
		byDefault = byDefault || err == nil && common.CommentNamesPort(string(text), c.port)
	}
	lines, err := journal(ctx, "-b", "-u", name, "-n", fmt.Sprint(mostLog))
	if err != nil {
		return fact.Program{}, false
	}
	for _, l := range lines {
		if common.SaidPort(l.Text, c.port) {
			return found, true
		}
	}
	if byDefault = byDefault && !c.ran[name]; byDefault { // nothing wants to run one that is forgotten
		found.Settings = fact.ByDefault
	}
	return found, byDefault
}

// listened reports whether a unit said that it listened on the port.
func (c claimSearch) listened(ctx context.Context, name string) bool {
	lines, err := journal(ctx, "-b", "-u", name, "-n", fmt.Sprint(mostLog))
	return err == nil && slices.ContainsFunc(lines, func(l fact.LogLine) bool {
		return common.SaidListening(l.Text, c.port)
	})
}
