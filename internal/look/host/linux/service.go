//go:build linux

package linux

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/host/common"
	"uakari/internal/look/host/programfiles"
	"uakari/internal/program"
	"uakari/internal/protocol"
	"uakari/internal/settingsfile"
)

// logLag is how long a line may take from a service to its log.
const logLag = time.Second

// Service leaves what this host knows of the programs that could stand behind
// the endpoint: those that the card or the unit names, and those of the
// scheme's table.
func Service(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	if order.Target.Name == "client" && env.Card != nil {
		env.Card, env.Unit = env.Card.OfClient(), "" // its own service, not the endpoint's
	}
	if order.Target.Again > 0 {
		env.Deep = true // a second look is for what its log says by now
		select {
		case <-time.After(logLag):
		case <-ctx.Done():
		}
	}
	scheme, _ := protocol.Lookup(order.Target.Scheme)
	port := order.Target.Port
	if _, err := processesNow(); err != nil {
		emit(env.Failed(order, "/proc", "could not list the processes", err, ""))
		return
	}
	s := fact.Service{Programs: []fact.Program{}}
	s.Programs = append(s.Programs, named(env)...)
	if len(s.Programs) == 0 {
		s.Programs = append(s.Programs, holder(order.Target.Port, scheme.UDP)...)
	}
	known := env.Registry()
	serving := known.Serving(scheme.Name)
	if scheme.Wire == "" {
		serving = append(serving, known.Using(port)...) // nobody said what is spoken
	}
	for _, p := range serving {
		if slices.ContainsFunc(s.Programs, func(have fact.Program) bool { return p.Runs(have.Name) }) {
			continue // known already, and more surely
		}
		if found, ok := fromRegistry(p, scheme, port); ok {
			s.Programs = append(s.Programs, found)
		}
	}
	if err := findProcesses(s.Programs, known); err != nil {
		emit(env.Failed(order, "/proc", "could not list the processes", err, ""))
		return
	}
	if !managed() {
		for i := range s.Programs {
			s.Programs[i].Units = nil // nobody here knows of units
		}
	} else {
		s.Manager = "systemd"
		if err := askManager(ctx, &s, env); err != nil {
			emit(env.Failed(order, "systemd", "could not ask the service manager", err, "a running system bus"))
		} else if err := processesOfUnits(s.Programs); err != nil {
			emit(env.Failed(order, "/proc", "could not list the processes", err, ""))
		} else if len(named(env)) == 0 && order.Target.Port != 0 {
			s.Programs = append(s.Programs, evident(ctx, env, order.Target.Port, s.Programs)...)
		}
	}
	held := map[string]int{}
	if order.Target.Port != 0 {
		held = programsOn(ctx, env, order.Target.Port)
	}
	for i := range s.Programs {
		p := &s.Programs[i]
		p.Logs = logsOf(ctx, *p, env, held)
		row, ok := known.Of(p.Name)
		if !ok || p.Why == "scheme" && len(p.Processes) == 0 {
			continue
		}
		from := onHost.SettingsOf(row, pidOf(row))
		p.Files = marked(from, row.Settings.Grammar)
		if len(p.Processes) == 0 {
			p.Private = privateOf(row, from)
			unparsed(p, row.Settings.Grammar, from)
		}
		if p.Why != "scheme" {
			p.Named = namedIn(row, from, order.Target)
		}
	}
	packaged(s.Programs, "/")
	slices.SortStableFunc(s.Programs, func(a, b fact.Program) int { return rank[a.Why] - rank[b.Why] })
	f := env.Seen(order, "units and processes", sawService(s))
	f.Service = &s
	emit(f)
}

// logsOf is the log files of a program that is there: those of the scheme's
// table, and the one that the card names as a sign.
func logsOf(ctx context.Context, p fact.Program, env look.Env, held map[string]int) []fact.LogFile {
	var logs []fact.LogFile
	if p.Why == "card" && env.Card.Log != "" {
		logs = common.LogFiles(ctx, []common.LogName{{Pattern: env.Card.Log, By: env.CardBy}})
		for i := range logs {
			logs[i].Stale = env.Card.Fresh
		}
	}
	if p.Why == "holder" || p.Why == "evidence" || p.Why == "unit" {
		if open := openLogs(p.Processes); len(open) > 0 {
			logs = append(logs, common.LogFiles(ctx, open)...)
		} else {
			logs = append(logs, common.LogFiles(ctx, usualLogs(p))...)
		}
	}
	if row, ok := env.Registry().Of(p.Name); ok && p.Path != "" {
		named := settingsLogs(row, held[row.Name])
		for _, pattern := range row.Logs {
			named = append(named, common.LogName{Pattern: pattern})
		}
		for _, l := range common.LogFiles(ctx, named) {
			if !slices.ContainsFunc(logs, func(have fact.LogFile) bool { return have.Path == l.Path }) {
				logs = append(logs, l)
			}
		}
	}
	return logs
}

// settingsLogs is the log files that a program's settings name: those of the
// process that holds the port or, where none does, of the oldest.
func settingsLogs(p program.Program, pid int) []common.LogName {
	if len(p.Settings.Log) == 0 {
		return nil
	}
	if pid == 0 {
		pid = pidOf(p)
	}
	var files []common.LogName
	// one that is for others' eyes has no text; the usual places remain
	for _, from := range onHost.SettingsOf(p, pid) {
		for _, v := range from.Found(p, p.Settings.Log) {
			path := firstWord(v.Text)
			if filepath.IsAbs(path) && !strings.ContainsAny(path, "*?[\\%") &&
				!slices.ContainsFunc(files, func(n common.LogName) bool { return n.Pattern == path }) &&
				!slices.Contains(p.Logs, path) {
				files = append(files, common.LogName{Pattern: path, By: from.By})
			}
		}
	}
	return files
}

// firstWord is a value without its quotes and what stands behind them.
func firstWord(value string) string {
	fields := strings.FieldsFunc(value, func(r rune) bool { return strings.ContainsRune(" \t,;'\"", r) })
	if len(fields) == 0 {
		return ""
	}
	return fields[0]
}

// rank orders how a program is known to belong to the endpoint.
var rank = map[string]int{"card": 0, "unit": 1, "holder": 2, "settings": 3, "evidence": 3, "scheme": 4}

func sawService(s fact.Service) string {
	var parts []string
	for _, p := range s.Programs {
		switch {
		case p.Path == "" && len(p.Processes) == 0 && len(p.Units) == 0:
			continue
		case p.Path == "" && len(p.Processes) == 0:
			parts = append(parts, p.Name+" is not installed")
		case len(p.Processes) == 0:
			parts = append(parts, p.Name+" is installed and does not run")
		default:
			parts = append(parts, fmt.Sprintf("%s runs (pid %d)", p.Name, p.Processes[0].PID))
		}
		for _, u := range p.Units {
			parts = append(parts, u.Name+" is "+u.Active)
		}
	}
	if len(parts) == 0 {
		return "no program of this kind is installed"
	}
	return strings.Join(parts, ", ")
}

// named is the program that the card or the administrator names.
func named(env look.Env) []fact.Program {
	unit := env.Unit
	program := fact.Program{Why: "unit", Name: strings.TrimSuffix(unit, ".service")}
	if env.Card != nil && (env.Card.Program != "" || env.Card.Unit != "") {
		program.Why = "card"
		if unit == "" {
			unit = env.Card.Unit
		}
		program.Name = strings.TrimSuffix(unit, ".service")
		if env.Card.Program != "" {
			program.Name = filepath.Base(env.Card.Program)
			program.Path = installed([]string{env.Card.Program})
		}
	}
	if program.Name == "" {
		return nil
	}
	if unit == "" {
		unit = program.Name
	}
	if !strings.Contains(unit, ".") {
		unit += ".service"
	}
	if row, ok := env.Registry().OfUnit(unit); ok && program.Path == "" &&
		(env.Card == nil || env.Card.Program == "") {
		program.Name, program.Path = row.Name, installed(row.Paths)
	}
	program.Units = []fact.Unit{{Name: unit}} // its state is the manager's to say
	if program.Path == "" {
		program.Path = installed(
			[]string{
				"/usr/sbin/" + program.Name,
				"/usr/bin/" + program.Name,
				"/usr/local/sbin/" + program.Name,
				"/usr/local/bin/" + program.Name,
			},
		)
	}
	return []fact.Program{program}
}

// mostPrivate bounds how many private files of a program are looked at.
const mostPrivate = 20

// privateOf is the files of a program that nobody else may read, and whether others may.
func privateOf(row program.Program, from []programfiles.Source) []fact.PrivateFile {
	var paths []string
	for _, source := range from {
		values, err := settingsfile.Read(string(source.Text), row.Settings.Grammar)
		if err != nil {
			continue // the settings say so elsewhere
		}
		for _, v := range program.Found(values, row.Settings.Private) {
			paths = append(paths, v.Text)
		}
	}
	if len(paths) == 0 {
		for _, pattern := range row.Settings.PrivateFiles {
			matches, err := filepath.Glob(pattern)
			if err == nil {
				paths = append(paths, matches...)
			}
		}
	}
	var list []fact.PrivateFile
	for _, path := range paths[:min(len(paths), mostPrivate)] {
		info, err := os.Stat(path)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		mode := info.Mode().Perm()
		list = append(list, fact.PrivateFile{Path: path, Mode: fmt.Sprintf("%04o", mode), Open: mode&0o077 != 0})
	}
	return list
}

// holder is the program that holds the port now, with its unit: where nobody
// said which program serves the endpoint, it is this one.
func holder(port uint16, datagrams bool) []fact.Program {
	transport := unix.IPPROTO_TCP
	if datagrams {
		transport = unix.IPPROTO_UDP
	}
	sockets, err := dumpListening(byte(transport))
	if err != nil {
		return nil // the look at the listeners says so
	}
	for _, s := range sockets {
		if s.Port != port {
			continue
		}
		inodes := map[uint32]int{s.Inode: 0}
		if _, err := owners(inodes); err != nil || inodes[s.Inode] <= 1 {
			continue // not to be seen, or a socket unit's
		}
		pid := inodes[s.Inode]
		p := fact.Program{Name: programName(pid), Why: "holder"}
		if path, err := os.Readlink(procFile(pid, "exe")); err == nil {
			p.Path = path
		}
		if unit := unitOf(pid); unit != "" {
			p.Units = []fact.Unit{{Name: unit}}
		}
		return []fact.Program{p}
	}
	return nil
}

// fromRegistry is a program that serves a scheme, as this host has it: one
// that is the scheme's own or, of those that speak it beside other things,
// that the port belongs to.
func fromRegistry(p program.Program, scheme protocol.Scheme, port uint16) (fact.Program, bool) {
	found := fact.Program{Name: p.Name, Path: installed(p.Paths), Why: "scheme"}
	if found.Path == "" {
		found.Units = leftBehind(p)
		// Its settings may be all that is left of it: those that name the port.
		files, ports := settingsPorts(p, 0)
		if found.Why = "settings"; port != 0 && files != "" && slices.Contains(ports, port) {
			found.Settings, found.Ports = files, ports
			return found, true
		}
		if found.Why = "scheme"; len(found.Units) == 0 {
			return found, false
		}
	}
	files, ports := settingsPorts(p, pidOf(p))
	usual := p.Serves[scheme.Name]
	if scheme.Wire == "" && p.Uses(port) {
		usual = port
	}
	found.Ports = ports
	switch {
	case slices.Contains(ports, port):
		found.Why, found.Settings = "settings", files
	case len(ports) == 0 && usual == port && port != 0:
		found.Why, found.Settings = "settings", fact.ByDefault
	case usual == port && port != 0 && port != scheme.Port:
		found.Why, found.Settings = "evidence", fact.ByUse
	}
	return found, found.Why != "scheme" || isOwn(p, scheme)
}

// leftBehind is the units of a program that is not there any more.
func leftBehind(p program.Program) (units []fact.Unit) {
	for _, name := range p.Units {
		file := installed([]string{"/etc/systemd/system/" + name, "/run/systemd/system/" + name,
			"/usr/lib/systemd/system/" + name, "/lib/systemd/system/" + name})
		if to, err := os.Readlink(file); file == "" || strings.Contains(name, "*") || err == nil && to == os.DevNull {
			continue
		}
		units = append(units, fact.Unit{Name: name})
	}
	return units
}

// isOwn reports whether a program is there to speak a protocol: on its usual
// port, for one of its schemes.
func isOwn(p program.Program, scheme protocol.Scheme) bool {
	for name, port := range p.Serves {
		if port == 0 {
			continue
		}
		if of, ok := protocol.Lookup(name); ok && of.Wire == scheme.Wire && of.Port == port {
			return true
		}
	}
	return false
}

// installed is the first file that a list of patterns leads to.
func installed(patterns []string) string {
	for _, pattern := range patterns {
		matches, err := filepath.Glob(pattern)
		if err != nil {
			continue // a card's path may be no valid pattern
		}
		for _, m := range matches {
			if info, err := os.Stat(m); err == nil && !info.IsDir() {
				return m
			}
		}
	}
	return ""
}

// settingsPorts is the ports that a program's settings name, as a process of
// it was told of them, and the first file that names one.
func settingsPorts(p program.Program, pid int) (file string, ports []uint16) {
	if len(p.Settings.Port) == 0 {
		return "", nil
	}
	for _, from := range onHost.SettingsOf(p,
		pid) { // one that is for others' eyes has no text; then it is one of the scheme only
		for _, v := range from.Found(p, p.Settings.Port) {
			for _, n := range program.Ports(v.Text) {
				if slices.Contains(ports, n) {
					continue
				}
				if file == "" {
					file = from.Path
				}
				ports = append(ports, n)
			}
		}
	}
	return file, ports
}
