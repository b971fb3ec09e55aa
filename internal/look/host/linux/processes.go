//go:build linux

package linux

import (
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"uakari/internal/fact"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/program"
)

// findProcesses fills in the processes of each program, in one pass.
func findProcesses(programs []fact.Program, known *program.Registry) error {
	list, err := processes()
	if err != nil {
		return err
	}
	rows := make([]program.Program, len(programs))
	for i := range programs {
		rows[i], _ = known.Of(programs[i].Name)
	}
	for _, each := range slices.Backward(list) {
		pid, name := each.pid, each.program
		for i := range programs {
			p := &programs[i]
			ours := p.Name == name || rows[i].Runs(name) && p.Why != "card" && p.Why != "unit"
			if len(p.Units) > 0 && (p.Why == "holder" || p.Why == "evidence") {
				ours = unitOf(pid) == p.Units[0].Name // many units run a program of one name
			} else if p.Why != "scheme" && len(p.Units) > 0 {
				ours = ours || unitOf(pid) == p.Units[0].Name
			}
			if ours && !forOneSession(pid) {
				takeProcess(p, pid)
			}
		}
	}
	return nil
}

// oneSession is titles that programs write over their arguments in processes that serve
// those who are connected already, and nobody else: they outlive their service.
var oneSession = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^sshd(?:-session)?: .*(?:\[(?:priv|net|preauth|accepted|pam)\]|@\S+)$|` +
		`^\S+: .* is shutting down$`)
})

func forOneSession(pid int) bool {
	text, err := file.Head(procFile(pid, "cmdline"), mostCommand)
	title := strings.TrimRight(string(text), "\x00 ")
	return err == nil && !strings.Contains(title, "\x00") && oneSession().MatchString(title)
}

// takeProcess adds a process to those of a program.
func takeProcess(p *fact.Program, pid int) {
	const most = 50 // of one program
	if running, ok := process(pid); ok && running.State != "X" && len(p.Processes) < most {
		running.Apart, running.Unplaced = networkOf(pid)
		running.Files, running.Limit = descriptors(pid)
		p.Processes = append(p.Processes, running)
	}
}

// processesOfUnits fills in what the units of programs run under another name,
// such as that of an interpreter.
func processesOfUnits(programs []fact.Program) error {
	list, err := processes()
	if err != nil {
		return err
	}
	for i := range programs {
		p := &programs[i]
		if len(p.Processes) > 0 || !slices.ContainsFunc(p.Units, func(u fact.Unit) bool { return u.MainPID != 0 }) {
			continue
		}
		for _, each := range slices.Backward(list) {
			if unit := unitOf(each.pid); unit != "" &&
				slices.ContainsFunc(p.Units, func(u fact.Unit) bool { return u.Name == unit }) {
				takeProcess(p, each.pid)
			}
		}
	}
	return nil
}

// descriptors is how many files a process has open, and how many it may have;
// zero where that cannot be seen.
func descriptors(pid int) (open, limit int) {
	dir, err := os.Open(procFile(pid, "fd"))
	if err != nil {
		return 0, 0
	}
	names, err := dir.Readdirnames(-1)
	dir.Close()
	if err != nil {
		return 0, 0
	}
	text, err := os.ReadFile(procFile(pid, "limits"))
	if err != nil {
		return len(names), 0
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "Max open files"); ok {
			if fields := strings.Fields(rest); len(fields) > 0 {
				limit, _ = strconv.Atoi(fields[0]) // "unlimited" stays zero
			}
		}
	}
	return len(names), limit
}

// apart reports whether a process is known to be in another network namespace.
func apart(pid int) bool {
	own, err := os.Readlink("/proc/self/ns/net")
	if err != nil {
		return false
	}
	other, err := os.Readlink(procFile(pid, "ns/net"))
	return err == nil && other != own
}

// networkOf says whether a process is in another network namespace, and whether
// that could not be seen. Who may not look at it knows all the same of one that
// a unit of this host's own manager runs; the unit says if it has a network of
// its own.
func networkOf(pid int) (elsewhere, unknown bool) {
	own, err := os.Readlink("/proc/self/ns/net")
	if err != nil {
		return false, true
	}
	if other, err := os.Readlink(procFile(pid, "ns/net")); err == nil {
		return other != own, false
	}
	text, err := file.Head(procFile(pid, "cgroup"), common.MostSettings)
	return false, err != nil || !ownUnit(string(text))
}
