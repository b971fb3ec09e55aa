package fact

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Addresses is every address of a host.
type Addresses struct {
	Host string    `json:"host"` // its own name
	Held []Address `json:"held"`
	MACs []string  `json:"macs,omitempty"` // of its links
}

// Address is one address on one link.
type Address struct {
	Prefix netip.Prefix `json:"prefix"`
	Link   string       `json:"link"`
	Up     bool         `json:"up"`              // link is up and has a carrier
	Local  bool         `json:"local,omitempty"` // on a loopback link
	// State is "tentative", "duplicate" or "deprecated" (RFC 4862); "" for an
	// address in ordinary use.
	State string `json:"state,omitempty"`
}

// Holds reports whether the host has the address; every address of
// 127.0.0.0/8 counts as held by a host with a loopback link.
func (a Addresses) Holds(addr netip.Addr) bool {
	addr = addr.Unmap().WithZone("")
	for _, held := range a.Held {
		if held.Prefix.Addr() == addr || addr.IsLoopback() && held.Prefix.Contains(addr) {
			return true
		}
	}
	return false
}

// Listener is one listening TCP socket, or one bound UDP socket.
type Listener struct {
	Transport string     `json:"transport,omitempty"` // "udp"; "": tcp
	Addr      netip.Addr `json:"addr"`                // unspecified: every address
	Port      uint16     `json:"port"`
	V6Only    *bool      `json:"v6_only,omitempty"` // of an IPv6 wildcard; nil: not known
	// connections that wait to be accepted; UDP: bytes that wait to be read
	Queue uint32 `json:"queue"`
	Limit uint32 `json:"limit"` // the backlog asked for; Limit+1 may wait
	// Unqueued is that the system shows no queue: Queue and Limit say nothing.
	Unqueued bool      `json:"unqueued,omitempty"`
	Inode    uint32    `json:"inode,omitempty"`
	UID      uint32    `json:"uid"`
	User     string    `json:"user,omitempty"`
	PID      int       `json:"pid,omitempty"` // 0: the owner could not be seen
	Program  string    `json:"program,omitempty"`
	Path     string    `json:"path,omitempty"` // of the program, where a filter may ask for it
	Args     string    `json:"args,omitempty"` // without what may be a secret
	Unit     string    `json:"unit,omitempty"`
	Space    string    `json:"space,omitempty"` // another network namespace: "pid 4121"
	Since    time.Time `json:"since,omitzero"`  // start of the owner
}

// Compare orders listeners by port, address, transport and inode.
func (l *Listener) Compare(other *Listener) int {
	if l.Port != other.Port {
		return int(l.Port) - int(other.Port)
	}
	return cmp.Or(l.Addr.Compare(other.Addr), strings.Compare(l.Transport, other.Transport),
		cmp.Compare(l.Inode, other.Inode))
}

// Takes reports whether a connection to addr would reach this listener, and
// whether that is certain.
func (l Listener) Takes(addr netip.Addr) (takes, certain bool) {
	addr = addr.Unmap().WithZone("")
	switch {
	case l.Addr.Unmap().WithZone("") == addr:
		return true, true
	case !l.Addr.IsUnspecified():
		return false, true
	case l.Addr.Is4():
		return addr.Is4(), true
	case addr.Is6():
		return true, true
	case l.V6Only != nil:
		return !*l.V6Only, true
	}
	return true, false
}

// Full reports whether the kernel turns new connections away. The queue
// takes one more than the limit (sk_acceptq_is_full in include/net/sock.h).
func (l Listener) Full() bool { return l.Transport != "udp" && l.Queue > l.Limit }

// Listeners is every listening TCP socket of one network namespace, and its
// bound UDP sockets where they matter or all was asked for. Owners
// are filled in for the port that was asked for and for the endpoint's
// programs.
type Listeners struct {
	All []Listener `json:"all"`
	// Elsewhere is listeners in other network namespaces of the same host.
	Elsewhere []Listener `json:"elsewhere,omitempty"`
	// Hidden says why owners could not be seen, and what would show them.
	Hidden string `json:"hidden,omitempty"`
}

// On is the sockets on a port of a transport, "tcp" or "udp".
func (l Listeners) On(transport string, port uint16) []Listener {
	var on []Listener
	for _, each := range l.All {
		if each.Port == port && (each.Transport == "udp") == (transport == "udp") {
			on = append(on, each)
		}
	}
	return on
}

// Service is what a host knows of the programs that could stand behind an
// endpoint.
type Service struct {
	// Manager is the service manager that was asked: "systemd", or "" when
	// none runs here and processes alone must decide.
	Manager  string    `json:"manager,omitempty"`
	Programs []Program `json:"programs"`
	// Needs is the units that the card says it cannot do without.
	Needs []Unit `json:"needs,omitempty"`
}

// Program is one server program that could serve the endpoint.
type Program struct {
	Name     string   `json:"name"`           // "sshd"
	Path     string   `json:"path,omitempty"` // "": not installed
	Why      string   `json:"why"`            // how it belongs: "card", "unit", "settings", "scheme"
	Settings string   `json:"settings,omitempty"`
	Ports    []uint16 `json:"ports,omitempty"` // that its settings name
	// Named is where its settings name the endpoint's port or host, its
	// certificate or what is behind it, and nothing else with it.
	Named []NamedSetting `json:"named,omitempty"`
	Files []SettingsFile `json:"files,omitempty"` // its settings, as they were when it was looked at
	// Private is the private files of one that does not run: without one of its own it does
	// not start.
	Private   []PrivateFile `json:"private,omitempty"`
	Package   Package       `json:"package,omitzero"`
	Processes []Process     `json:"processes,omitempty"`
	Units     []Unit        `json:"units,omitempty"`
	Logs      []LogFile     `json:"logs,omitempty"`
}

// What Program.Settings says of a program whose port no file names.
const (
	ByDefault = "its default"    // it has settings, and none of them names a port
	ByUse     = "its usual port" // which is nobody else's
)

// Written reports whether the program's own settings or log name a port, and
// not only its defaults.
func (p *Program) Written(port uint16) bool {
	return p.Settings != ByDefault && p.Settings != ByUse && slices.Contains(p.Ports, port)
}

// NamedSetting is a setting of a server program that a card may want to be as it is.
type NamedSetting struct {
	At SettingAt `json:"at"`
	// Is is what it is: "port", "host", "certificate" or "backend".
	Is    string `json:"is"`
	Value string `json:"value"`
}

// SettingsFile is a settings file of a program, so that a change of it shows.
type SettingsFile struct {
	Path    string    `json:"path"`
	Mark    string    `json:"mark,omitempty"` // of its text: four hexadecimal digits; "": nobody could read it
	Changed time.Time `json:"changed,omitzero"`
	// Says is its first settings, "KEY = VALUE", those whose values may be kept.
	Says []string `json:"says,omitempty"`
}

// PrivateFile is a file that its program does not use while others may read it.
type PrivateFile struct {
	Path string `json:"path"`
	Mode string `json:"mode"` // "0600"
	Open bool   `json:"open,omitempty"`
}

// Package is what a program was installed from.
type Package struct {
	Name    string    `json:"name,omitempty"`    // "": from none that is known
	Version string    `json:"version,omitempty"` // as the package manager writes it
	Since   time.Time `json:"since,omitzero"`    // when it was installed
}

// LogFile is the end of one log file.
type LogFile struct {
	Path    string    `json:"path"`
	Changed time.Time `json:"changed"`
	Lines   []string  `json:"lines"`
	Stale   string    `json:"stale,omitempty"` // how fresh the card wants it, if it is a sign
}

// Process is one running process.
type Process struct {
	PID   int       `json:"pid"`
	State string    `json:"state"`           // the letter of proc(5): R, S, D, Z, T
	Files int       `json:"files,omitempty"` // open descriptors; 0: not seen
	Limit int       `json:"limit,omitempty"` // of descriptors
	Since time.Time `json:"since,omitzero"`
	User  string    `json:"user,omitempty"` // whose it is
	// Apart marks a process in another network namespace: what it listens
	// on is not this host's.
	Apart bool `json:"apart,omitempty"`
	// Unplaced marks one of which nobody could see in which it is.
	Unplaced bool `json:"unplaced,omitempty"`
}

// Here is the processes that are known to share this host's network.
func (p Program) Here() []Process {
	return slices.DeleteFunc(slices.Clone(p.Processes), func(r Process) bool { return r.Apart || r.Unplaced })
}

// Unit is one systemd unit's state (org.freedesktop.systemd1(5)).
type Unit struct {
	Name    string    `json:"name"`
	Load    string    `json:"load"`   // "loaded", "not-found", "masked"
	Active  string    `json:"active"` // "active", "inactive", "failed", "activating"
	Sub     string    `json:"sub"`
	Result  string    `json:"result,omitempty"`
	Status  int       `json:"status,omitempty"` // exit status, or signal number, of the main process
	Signal  bool      `json:"signal,omitempty"` // Status is a signal
	Enabled string    `json:"enabled,omitempty"`
	MainPID int       `json:"main_pid,omitempty"` // of the last main process
	Runs    []string  `json:"runs,omitempty"`     // the programs that it starts
	Since   time.Time `json:"since,omitzero"`
	Started bool      `json:"started,omitempty"` // it ran since the host was started
	// Restarts counts automatic restarts; Starts the starts in the log of
	// the last day.
	Restarts int `json:"restarts,omitempty"`
	Starts   int `json:"starts,omitempty"`
	// Begins is when its manager starts it by itself, where that is not plain from Enabled;
	// Late that this is some minutes after the host's start. Of Windows.
	Begins string `json:"begins,omitempty"`
	Late   bool   `json:"late,omitempty"`
	// Listens is the sockets that a socket unit holds for the service.
	Listens []string `json:"listens,omitempty"`
	// Sockets is the socket units that start this one.
	Sockets []string `json:"sockets,omitempty"`
	// Down is the units it requires that are not up: "ledger.service (failed)".
	Down []string `json:"down,omitempty"`
	// Private says that it has a network of its own (systemd.exec(5)).
	Private bool `json:"private,omitempty"`
	// Denies and Allows are its own address lists (systemd.resource-control(5)).
	Denies []string `json:"denies,omitempty"`
	Allows []string `json:"allows,omitempty"`
	Failed []string `json:"failed,omitempty"` // conditions that were not met
	// Checked is that the next start was looked at, and Blocked what it would fail at, in the
	// order in which the manager comes to it.
	Checked bool         `json:"checked,omitempty"`
	Blocked []StartBlock `json:"blocked,omitempty"`
	// LeastPort is the lowest port that its program may listen on; 0: any.
	LeastPort uint16    `json:"least_port,omitempty"`
	Log       []LogLine `json:"log,omitempty"`    // its last lines
	Hidden    string    `json:"hidden,omitempty"` // why its log could not be read
}

// StartBlock is something that a start of a unit would fail at.
type StartBlock struct {
	// Kind is "program", "account", "folder", "file", "needs", "assert", "limit", "unit", "right"
	// or "settings".
	Kind    string `json:"kind"`
	Setting string `json:"setting,omitempty"` // of the unit, that asks for it: "EnvironmentFile"
	Path    string `json:"path,omitempty"`    // the file, account or unit that it is about
	After   string `json:"after,omitempty"`   // a unit that is started before, and may provide it
	Text    string `json:"text"`
}

// Wanted reports whether somebody wants a unit to run.
func (u Unit) Wanted() bool { return u.Enabled == "enabled" || u.Active != "inactive" }
