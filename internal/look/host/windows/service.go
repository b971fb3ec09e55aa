//go:build windows

package windows

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/windows/registry"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/protocol"
)

// Bounds on what is looked through for a port.
const (
	mostClaims       = 4
	mostSettingsText = 256 << 10
)

// rank orders how a program is known to belong to the endpoint.
var rank = map[string]int{"card": 0, "unit": 1, "holder": 2, "settings": 3, "evidence": 3, "scheme": 4}

// Service leaves what this host knows of the services that could stand behind
// the endpoint: the one that the card or the administrator names, whoever holds
// the port, those whose own command, settings or log say that it is theirs, and
// those that are known to speak the scheme.
func Service(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	if order.Target.Name == "client" && env.Card != nil {
		env.Card, env.Unit = env.Card.OfClient(), "" // its own service, not the endpoint's
	}
	all, err := services()
	if err != nil {
		emit(env.Failed(order, "services", "could not list the services", err, "an administrator's prompt"))
		return
	}
	running, err := processes()
	if err != nil {
		emit(env.Failed(order, "processes", "could not list the processes", err, "an administrator's prompt"))
		return
	}
	f := finder{ctx: ctx, env: env, port: order.Target.Port, all: all, running: running, again: order.Target.Again > 0}
	f.scheme, _ = protocol.Lookup(order.Target.Scheme)
	f.named()
	if len(f.list) == 0 {
		f.holder()
		f.claimants(ctx)
		f.known()
	}
	for i := range f.list {
		f.finish(ctx, &f.list[i])
	}
	slices.SortStableFunc(f.list, func(a, b fact.Program) int { return rank[a.Why] - rank[b.Why] })
	s := fact.Service{Manager: "the service manager", Programs: f.list}
	if s.Programs == nil {
		s.Programs = []fact.Program{}
	}
	if env.Card != nil {
		for _, name := range env.Card.Needs {
			s.Needs = append(s.Needs, f.unitNamed(name))
		}
	}
	saw := "no service of this kind is installed"
	if len(s.Programs) > 0 {
		p := s.Programs[0]
		saw = p.Name
		if len(p.Units) > 0 {
			saw = p.Units[0].Name + " is " + p.Units[0].Sub
		}
	}
	seen := env.Seen(order, "services and processes", saw)
	seen.Service = &s
	emit(seen)
}

// finder looks for the programs behind an endpoint.
type finder struct {
	ctx     context.Context // of the one look that it is made for
	env     look.Env
	port    uint16
	scheme  protocol.Scheme
	all     []service
	running map[uint32]process
	again   bool // an account was tried meanwhile
	list    []fact.Program
}

func (f *finder) have(unit string) bool {
	return slices.ContainsFunc(f.list, func(p fact.Program) bool {
		return slices.ContainsFunc(p.Units, func(u fact.Unit) bool { return strings.EqualFold(u.Name, unit) })
	})
}

// service finds one by its name, or by the title that people see.
func (f *finder) service(name string) *service {
	for i := range f.all {
		if strings.EqualFold(f.all[i].name, name) || strings.EqualFold(f.all[i].title, name) {
			return &f.all[i]
		}
	}
	return nil
}

func (f *finder) unitNamed(name string) fact.Unit {
	if s := f.service(name); s != nil {
		return s.unit(f.all)
	}
	return fact.Unit{Name: name, Load: "not-found"}
}

// add keeps a service's program.
func (f *finder) add(s *service, why, settings string, ports ...uint16) {
	if f.have(s.name) {
		return
	}
	p := fact.Program{Name: s.name, Why: why, Settings: settings, Ports: ports, Units: []fact.Unit{s.unit(f.all)}}
	if len(s.command) > 0 {
		p.Name = programName(s.command[0])
		if _, err := os.Stat(s.command[0]); err == nil {
			p.Path = s.command[0]
		}
	}
	f.list = append(f.list, p)
}

// named is the service that the card or the administrator names.
func (f *finder) named() {
	name, why, path := f.env.Unit, "unit", ""
	if card := f.env.Card; card != nil && (card.Program != "" || card.Unit != "") {
		why, path = "card", filepath.FromSlash(card.Program)
		if name == "" {
			name = card.Unit
		}
		if name == "" {
			name = programName(card.Program)
		}
	}
	if name == "" {
		return
	}
	if s := f.service(name); s != nil {
		f.add(s, why, "")
		return
	}
	p := fact.Program{Name: name, Why: why, Units: []fact.Unit{{Name: name, Load: "not-found"}}}
	if path != "" {
		p.Name = programName(path)
		if _, err := os.Stat(path); err == nil {
			p.Path = path
		}
	}
	f.list = append(f.list, p)
}

// holder is whoever holds the port now.
func (f *finder) holder() {
	all, err := sockets()
	if err != nil {
		return // the look at the listeners says so
	}
	for _, s := range all {
		if s.local.Port() != f.port || s.datagrams != f.scheme.UDP || !s.datagrams && s.state != tcpListening ||
			s.pid == 0 {
			continue
		}
		if at := slices.IndexFunc(f.all, func(each service) bool { return each.pid == s.pid }); at >= 0 {
			f.add(&f.all[at], "holder", "")
			return
		}
		if p, ok := f.running[s.pid]; ok {
			f.list = append(f.list, fact.Program{Name: p.name, Path: p.path, Why: "holder"})
			return
		}
	}
}

// claimants is the services that should hold the port and do not, by their own
// command, environment, settings or log: those that failed, that are starting,
// or that start by themselves and do not run. One that never ran and is not
// meant to is never blamed.
func (f *finder) claimants(ctx context.Context) {
	held := len(f.list) > 0
	found := 0
	for i := range f.all {
		s := &f.all[i]
		u := s.unit(f.all)
		meant := s.start == startAuto || u.Active == "failed" || u.Active == "activating" || u.Started
		if found == mostClaims || u.Active == "active" || !meant || held && u.Active == "inactive" {
			continue
		}
		if place, ok := f.claims(ctx, s); ok {
			f.add(s, "evidence", place, f.port)
			found++
		}
	}
}

// claims says where a service says that the port is its own.
func (f *finder) claims(ctx context.Context, s *service) (place string, ok bool) {
	if len(s.command) == 0 {
		return "", false
	}
	for _, word := range append(slices.Clone(s.command[1:]), environmentOf(s.name)...) {
		if common.NamesPort(word, f.port) {
			return s.name, true
		}
	}
	for _, path := range ownSettings(s.command) {
		text, err := file.Head(path, mostSettingsText)
		if err == nil && common.SettingNamesPort(string(text), f.port) {
			return path, true
		}
	}
	lines, err := ownEvents(ctx, s.name)
	return "", err == nil &&
		slices.ContainsFunc(lines, func(l fact.LogLine) bool { return common.SaidPort(l.Text, f.port) })
}

// environmentOf is what a service is given beside its command.
func environmentOf(name string) []string {
	key, err := registry.OpenKey(registry.LOCAL_MACHINE, servicesKey+`\`+name, registry.QUERY_VALUE)
	if err != nil {
		return nil
	}
	defer key.Close()
	list, _, _ := key.GetStringsValue("Environment")
	return list
}

// ownSettings is the settings files that a command names, and those beside its program that
// are called like it. Other files there may be anybody's, also records of this program.
func ownSettings(command []string) []string {
	var list []string
	for _, word := range command[1:] {
		if _, value, ok := strings.Cut(word, "="); ok {
			word = value
		}
		if info, err := os.Stat(word); err == nil && info.Mode().IsRegular() {
			list = append(list, word)
		}
	}
	folder := filepath.Dir(command[0])
	if strings.Contains(strings.ToLower(folder), `\windows\`) {
		return list
	}
	for _, end := range common.SettingsEnds {
		beside, _ := filepath.Glob(filepath.Join(folder, "*"+end))
		for _, path := range beside {
			if common.SettingsOf(filepath.Base(path), filepath.Base(command[0])) {
				list = append(list, path)
			}
		}
	}
	return list
}

// known is the services of programs that are known to speak the scheme.
func (f *finder) known() {
	registry := f.env.Registry()
	serving := registry.Serving(f.scheme.Name)
	if f.scheme.Wire == "" {
		serving = append(serving, registry.Using(f.port)...)
	}
	for _, p := range serving {
		for i := range f.all {
			s := &f.all[i]
			if !slices.ContainsFunc(p.Windows, func(pattern string) bool {
				ok, err := filepath.Match(strings.ToLower(pattern), strings.ToLower(s.name))
				return ok && err == nil
			}) {
				continue
			}
			why, settings := "scheme", ""
			if p.Serves[f.scheme.Name] == f.port || f.scheme.Wire == "" && p.Uses(f.port) {
				why, settings = "settings", fact.ByDefault
			}
			f.add(s, why, settings)
		}
	}
}

// finish fills in the processes and the logs of a program.
func (f *finder) finish(ctx context.Context, p *fact.Program) {
	for i := range p.Units {
		u := &p.Units[i]
		title := u.Name
		if s := f.service(u.Name); s != nil {
			title = s.title
			u.Begins = strings.TrimPrefix(u.Begins+"; "+again(u.Name), "; ")
		}
		lines, ended, err := managersEvents(ctx, u.Name, title)
		if u.Active != "inactive" { // who stopped it in order has ended that
			u.Restarts = ended
		}
		own, err2 := ownEvents(ctx, u.Name)
		if err != nil && err2 != nil {
			u.Hidden = "the event log could not be read: " + err.Error()
		}
		u.Log = append(append(lines, own...), u.Log...)
		if r, ok := f.running[uint32(u.MainPID)]; ok && u.MainPID != 0 {
			u.Since = r.since
			p.Processes = append(p.Processes, r.fact())
		} else if len(u.Log) > 0 {
			u.Since = lastOf(u.Log)
		}
	}
	found := slices.ContainsFunc(p.Units, func(u fact.Unit) bool { return u.Load != "not-found" })
	if len(p.Processes) == 0 {
		for _, r := range f.running {
			if p.Path != "" && r.isOf(p.Path) && !found {
				p.Processes = append(p.Processes, r.fact())
			}
		}
	}
	p.Logs = f.logs(p)
	if f.again && !f.scheme.Open && len(p.Units) > 0 {
		u := &p.Units[0]
		lines, err := failedLogons(ctx)
		if err != nil && u.Hidden == "" {
			u.Hidden = "the audit of logons could not be read: " + err.Error()
		}
		u.Log = append(u.Log, lines...)
	}
}

func lastOf(lines []fact.LogLine) time.Time {
	var last time.Time
	for _, l := range lines {
		if l.At.After(last) {
			last = l.At
		}
	}
	return last
}

func (p process) fact() fact.Process {
	return fact.Process{PID: int(p.pid), State: "S", Since: p.since, User: p.user()}
}

// logs is the ends of the log files that the card names, or that are known of
// the program.
func (f *finder) logs(p *fact.Program) []fact.LogFile {
	var names []common.LogName
	if p.Why == "card" && f.env.Card.Log != "" {
		names = append(names, common.LogName{Pattern: f.env.Card.Log, By: f.env.CardBy})
	}
	if row, ok := f.env.Registry().Of(p.Name); ok {
		for _, pattern := range row.Logs {
			if !strings.HasPrefix(pattern, "/") {
				names = append(names, common.LogName{Pattern: pattern})
			}
		}
	}
	list := common.LogFiles(f.ctx, names)
	for i := range list {
		if f.env.Card != nil && list[i].Path == f.env.Card.Log {
			list[i].Stale = f.env.Card.Fresh
		}
	}
	return list
}
