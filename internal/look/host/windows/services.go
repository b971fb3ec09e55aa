//go:build windows

package windows

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// servicesKey is where the settings of all services are.
const servicesKey = `SYSTEM\CurrentControlSet\Services`

// Kinds of start (QUERY_SERVICE_CONFIG).
const (
	startAuto     = 2
	startDemand   = 3
	startDisabled = 4
)

// Codes of a service's end that say no more than that there is none (winerror.h).
const (
	neverStarted  = 1077
	specificError = 1066
)

// service is one service, as the manager and the registry tell it.
type service struct {
	name, title string
	state       uint32
	pid         uint32
	exit        uint32
	own         bool // exit is the service's own code
	start       uint64
	delayed     bool
	triggered   bool
	account     string
	command     []string // with its arguments
	needs       []string
}

var serviceStates = map[uint32][2]string{
	windows.SERVICE_STOPPED:          {"inactive", "stopped"},
	windows.SERVICE_START_PENDING:    {"activating", "start-pending"},
	windows.SERVICE_STOP_PENDING:     {"deactivating", "stop-pending"},
	windows.SERVICE_RUNNING:          {"active", "running"},
	windows.SERVICE_CONTINUE_PENDING: {"activating", "continue-pending"},
	windows.SERVICE_PAUSE_PENDING:    {"deactivating", "pause-pending"},
	windows.SERVICE_PAUSED:           {"inactive", "paused"},
}

// asking lets one look at a time ask the manager.
var asking sync.Mutex

// services is every service of the host.
func services() ([]service, error) {
	asking.Lock()
	defer asking.Unlock()
	manager, err := windows.OpenSCManager(nil, nil, windows.SC_MANAGER_CONNECT|windows.SC_MANAGER_ENUMERATE_SERVICE)
	if err != nil {
		return nil, err
	}
	defer windows.CloseServiceHandle(manager)
	var needed, count uint32
	size := uint32(64 << 10)
	for range 6 {
		buffer := make([]byte, size)
		err = windows.EnumServicesStatusEx(
			manager,
			windows.SC_ENUM_PROCESS_INFO,
			windows.SERVICE_WIN32,
			windows.SERVICE_STATE_ALL,
			&buffer[0],
			size,
			&needed,
			&count,
			nil,
			nil,
		)
		if errors.Is(err, windows.ERROR_MORE_DATA) {
			size += needed + 4<<10
			continue
		}
		if err != nil {
			return nil, err
		}
		var list []service
		for _, each := range unsafe.Slice((*windows.ENUM_SERVICE_STATUS_PROCESS)(unsafe.Pointer(&buffer[0])), count) {
			status := each.ServiceStatusProcess
			s := service{
				name: windows.UTF16PtrToString(each.ServiceName), title: windows.UTF16PtrToString(each.DisplayName),
				state: status.CurrentState, pid: status.ProcessId, exit: status.Win32ExitCode,
			}
			if s.exit == specificError {
				s.exit, s.own = status.ServiceSpecificExitCode, true
			}
			s.configure()
			list = append(list, s)
		}
		return list, nil
	}
	return nil, err
}

// configure reads a service's settings from the registry.
func (s *service) configure() {
	key, err := registry.OpenKey(registry.LOCAL_MACHINE, servicesKey+`\`+s.name, registry.QUERY_VALUE)
	if err != nil {
		return
	}
	defer key.Close()
	if image, kind, err := key.GetStringValue("ImagePath"); err == nil {
		if kind == registry.EXPAND_SZ {
			if expanded, err := registry.ExpandString(image); err == nil {
				image = expanded
			}
		}
		s.command, _ = windows.DecomposeCommandLine(image)
	}
	s.start, _, _ = key.GetIntegerValue("Start")
	delayed, _, _ := key.GetIntegerValue("DelayedAutostart")
	s.delayed = delayed != 0
	s.account, _, _ = key.GetStringValue("ObjectName")
	s.needs, _, _ = key.GetStringsValue("DependOnService")
	if triggers, err := registry.OpenKey(key, "TriggerInfo", registry.QUERY_VALUE); err == nil {
		s.triggered = true
		triggers.Close()
	}
}

// servicesByPID names the services of each process.
func servicesByPID() (map[uint32]string, error) {
	list, err := services()
	names := map[uint32]string{}
	for _, s := range list {
		if s.pid != 0 {
			names[s.pid] = strings.TrimPrefix(names[s.pid]+", "+s.name, ", ")
		}
	}
	return names, err
}

// unit is a service as facts have it.
func (s service) unit(all []service) fact.Unit {
	state := serviceStates[s.state]
	u := fact.Unit{
		Name: s.name, Load: "loaded", Active: state[0], Sub: state[1], MainPID: int(s.pid),
		Enabled: map[uint64]string{startAuto: "enabled", startDemand: "disabled", startDisabled: "disabled"}[s.start],
		Started: s.exit != neverStarted && s.start != 0,
	}
	switch {
	case s.triggered && s.start == startDemand:
		u.Enabled = "static" // something else starts it
		u.Begins = "it starts when something triggers it"
	case s.start == startDemand:
		u.Begins = "nobody starts it but by hand"
	case s.start == startAuto && s.delayed:
		u.Begins, u.Late = "it starts by itself some minutes after the host", true
	}
	if s.start == startDisabled && s.state == windows.SERVICE_STOPPED {
		u.Load = "masked"
	}
	if len(s.command) > 0 {
		u.Runs = []string{programName(s.command[0])}
	}
	if s.state == windows.SERVICE_STOPPED && s.exit != 0 && s.exit != neverStarted {
		u.Active, u.Result, u.Status = "failed", "exit-code", int(s.exit)
		u.Log = append(u.Log, fact.LogLine{Unit: s.name, Text: s.ended()})
	}
	for _, needed := range s.needs {
		for _, other := range all {
			if strings.EqualFold(other.name, needed) && other.state != windows.SERVICE_RUNNING {
				u.Down = append(u.Down, fmt.Sprintf("%s (%s)", other.name, serviceStates[other.state][1]))
			}
		}
	}
	return u
}

// ended says how a service ended, in the system's own words for its code.
func (s service) ended() string {
	if s.own {
		return fmt.Sprintf("the service ended with its own code %d", s.exit)
	}
	text := strings.TrimSpace(windows.Errno(s.exit).Error())
	if meaning := codes[s.exit]; meaning != "" {
		text = meaning
	}
	if kept := keptBack(); s.exit == portForbidden && len(kept) > 0 {
		text += "; the system keeps back ports " + strings.Join(kept, ", ")
	}
	return fmt.Sprintf("the service ended with code %d: %s", s.exit, foreign.Clean(text))
}

// portForbidden is the end of a service whose port may not be had (WSAEACCES).
const portForbidden = 10013

// keptBack is the ranges of ports that the system gives to nobody by itself.
func keptBack() []string {
	key, err := registry.OpenKey(registry.LOCAL_MACHINE, `SYSTEM\CurrentControlSet\Services\Tcpip\Parameters`,
		registry.QUERY_VALUE)
	if err != nil {
		return nil
	}
	defer key.Close()
	list, _, _ := key.GetStringsValue("ReservedPorts") // most have none
	return list
}

// codes is what codes of a service's end mean, in words that do not change with
// the language of the system (winerror.h).
var codes = map[uint32]string{
	2:     "its program file is not there",
	3:     "the folder of its program is not there",
	5:     "access is denied",
	193:   "its program file is none for this system",
	1053:  "it did not answer the start in time",
	1058:  "it is disabled",
	1067:  "its process ended unexpectedly",
	1068:  "a service that it needs did not start",
	1069:  "its account could not log on",
	1070:  "it hung while it started",
	1075:  "a service that it needs does not exist",
	10013: "access to the port is forbidden",
	10048: "address already in use",
	10049: "cannot assign requested address",
}
