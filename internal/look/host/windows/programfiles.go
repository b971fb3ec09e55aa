//go:build windows

package windows

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/programfiles"
	"uakari/internal/program"
)

// onHost is how programs of this system, and their files, are found. Whether another
// account may read a file is not asked here.
var onHost = &programfiles.Host{
	On: programsOn, Process: pidOf, Started: startedOf, Usual: usual,
	Account: func(int) file.Account { return file.Account{} },
	User:    func(int) string { return "" },
	Apart:   func(int) bool { return false },
	Stopped: func(_, _ string) string { return "" },
	TooOpen: func(string, os.FileInfo) string { return "" },
	Changed: func(info os.FileInfo) time.Time { return info.ModTime().UTC() },
	Opened:  func(up fact.Upstream) fact.Upstream { return up },
	Asked: func(context.Context, look.Env, fact.Order, map[string]int, *fact.Access, look.Emit) {
	},
}

// glance is how long a list of services and processes is good for: one look asks for it
// for every program that is known.
const glance = time.Second

var around struct {
	sync.Mutex
	at       time.Time
	services []service
	running  map[uint32]process
}

// lookAround is every service and every process, as of a moment ago; none where they may
// not be listed, which the looks at them say.
func lookAround() ([]service, map[uint32]process) {
	around.Lock()
	defer around.Unlock()
	if time.Since(around.at) > glance {
		around.services, _ = services()
		around.running, _ = processes()
		around.at = time.Now()
	}
	return around.services, around.running
}

// programsOn is the programs that hold a port, with their processes.
func programsOn(_ context.Context, _ look.Env, port uint16) map[string]int {
	held := map[string]int{}
	all, err := sockets()
	if err != nil {
		return held // the look at the listeners says so
	}
	running, err := processes()
	if err != nil {
		return held // this too
	}
	for _, s := range all {
		if p, ok := running[s.pid]; ok && !s.datagrams && s.state == tcpListening && s.local.Port() == port {
			held[strings.ToLower(p.name)] = int(s.pid)
		}
	}
	return held
}

// pidOf is the oldest process of a program; 0 for none.
func pidOf(p program.Program) int {
	_, running := lookAround()
	oldest := process{}
	for _, each := range running {
		if p.Runs(strings.ToLower(each.name)) && (oldest.pid == 0 || each.since.Before(oldest.since)) {
			oldest = each
		}
	}
	return int(oldest.pid)
}

// startedOf is the command of the service that a process is of, or of the service that
// started the process of the same program which made it.
func startedOf(p program.Program, pid int) (list []programfiles.Started) {
	all, running := lookAround()
	if pid == 0 {
		for _, s := range servicesOf(p, all) {
			list = append(list, programfiles.Started{Args: s.command, Folder: filepath.Dir(s.command[0])})
		}
		return list
	}
	const mostAbove = 8
	for range mostAbove {
		for _, s := range all {
			if s.pid == uint32(pid) && len(s.command) > 0 {
				list = append(list, programfiles.Started{Args: s.command, Folder: filepath.Dir(s.command[0])})
			}
		}
		parent, ok := running[running[uint32(pid)].parent]
		if !ok || pid == int(parent.pid) {
			break
		}
		pid = int(parent.pid)
	}
	return list
}

// servicesOf is the services that start a program.
func servicesOf(p program.Program, all []service) []service {
	return slices.DeleteFunc(slices.Clone(all), func(s service) bool {
		return len(s.command) == 0 || !p.Runs(strings.ToLower(programName(s.command[0])))
	})
}

// usual is the files where a program keeps its settings that is not told otherwise: of the
// places in its file those of this system, and what lies so below the program's own folder
// or the one above.
func usual(p program.Program, pid int) []string {
	all, running := lookAround()
	folder := filepath.Dir(running[uint32(pid)].path)
	if pid == 0 {
		for _, s := range servicesOf(p, all) {
			folder = filepath.Dir(s.command[0])
		}
	}
	var patterns []string
	for _, pattern := range p.Settings.Files {
		switch beside, relative := strings.CutPrefix(pattern, `.\`); {
		case strings.HasPrefix(pattern, "/"): // another system's
		case relative && folder == ".":
		case relative:
			patterns = append(patterns, filepath.Join(folder, beside), filepath.Join(folder, "..", beside))
		default:
			patterns = append(patterns, expanded(pattern))
		}
	}
	return programfiles.Matching(patterns)
}

// expanded puts the values of variables into a path: "%ProgramData%\ssh\sshd_config".
func expanded(path string) string {
	parts := strings.Split(path, "%")
	for i := 1; i+1 < len(parts); i += 2 {
		parts[i] = os.Getenv(parts[i])
	}
	return strings.Join(parts, "")
}
