package service

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"uakari/internal/fact"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// resources is what the server may have run out of.
func (s serving) resources() (*fact.Fact, *fact.Resources) {
	for _, f := range s.v.Facts(s.t.Server, fact.LookResources) {
		if f.Resources != nil {
			return f, f.Resources
		}
	}
	return nil, nil
}

// denied reads a service that mandatory access control refused something, or
// that the kernel killed for memory, by lines that name it.
func (s serving) denied() (gate.Reading, bool) {
	f, res := s.resources()
	if res == nil {
		return gate.Reading{}, false
	}
	var other gate.Reading // of another time
	for _, row := range []struct {
		cause string
		lines []fact.LogLine
		words string
	}{{"service/policy-denied", res.Denials, "was refused by the system's policy"},
		{"service/starved", res.Kills, "was killed for want of memory"}} {
		for _, l := range slices.Backward(row.lines) {
			if s.isNamed(l.Text) && !s.ofOther(l.Text, row.lines) {
				r := s.reading(gate.Listener, row.cause, fmt.Sprintf("%s %s: \"%s\"", s.p.Name, row.words, l.Text))
				r.Because = gate.Union(r.Because, scene.FactIDs(f))
				asked := s.u != nil && s.u.Active == "inactive" &&
					s.u.Result == "success" // then it was stopped in order
				if s.u != nil && !asked && !l.At.IsZero() && l.At.Sub(s.u.Since).Abs() <= sameEvent {
					return r, true
				}
				if other.Cause == "" {
					r.Lacks = append(
						r.Lacks,
						gate.Lack{Guard: gate.OneMeaning, Why: "nothing shows that this is why it is down now"},
					)
					other = r
				}
			}
		}
	}
	return other, other.Cause != ""
}

// isNamed reports whether a line of the kernel's log is about the service: it
// names its program, one that its unit starts, its process or its control
// group.
func (s serving) isNamed(line string) bool {
	names := []string{s.p.Name}
	if s.u != nil {
		names = append(names, s.u.Runs...)
		if strings.Contains(line, "/"+s.u.Name+",") ||
			s.u.MainPID != 0 && strings.Contains(line, fmt.Sprintf("Killed process %d ", s.u.MainPID)) {
			return true
		}
	}
	return slices.ContainsFunc(names, func(name string) bool {
		return strings.Contains(line, `"`+name+`"`) || strings.Contains(line, "("+name+")")
	})
}

// ofOther reports whether a line about a killed process is about one of another
// unit, by the line in which the kernel gives its control group
// (mm/oom_kill.c, dump_oom_summary): programs of one name serve many.
func (s serving) ofOther(line string, all []fact.LogLine) bool {
	m := killedProcess().FindStringSubmatch(line)
	if m == nil || s.u == nil {
		return false
	}
	return slices.ContainsFunc(all, func(l fact.LogLine) bool {
		return strings.Contains(l.Text, "task_memcg=") && strings.Contains(l.Text, "pid="+m[1]+",") &&
			!strings.Contains(l.Text, "/"+s.u.Name+",")
	})
}

var killedProcess = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`Killed process (\d+) `) })

// common is where file systems are that any program may need.
var common = []string{"/", "/var", "/var/lib", "/var/log", "/var/tmp", "/tmp", "/run"}

// writesTo reports whether the service has to do with a file system: by where its
// program, its settings and its logs are, or because everybody has.
func (s serving) writesTo(mount string, disks []fact.Disk) bool {
	if slices.Contains(common, mount) || len(disks) == 1 {
		return true
	}
	paths := []string{s.p.Path, s.p.Settings}
	for _, file := range s.p.Files {
		paths = append(paths, file.Path)
	}
	for _, log := range s.p.Logs {
		paths = append(paths, log.Path)
	}
	beneath := func(path string) bool { return path == mount || strings.HasPrefix(path, mount+"/") }
	return slices.ContainsFunc(paths, beneath)
}

// fullDisk doubts a server with a full file system.
func (s serving) fullDisk() (gate.Reading, bool) {
	f, res := s.resources()
	if res == nil {
		return gate.Reading{}, false
	}
	for _, d := range res.Disks {
		if d.Full() && s.writesTo(d.Path, res.Disks) {
			r := s.reading(
				gate.Room,
				"service/starved",
				fmt.Sprintf("the file system of %s on %s is full", d.Path, s.v.Host(s.t.Server)),
			)
			r.Harmless, r.Because = true, scene.FactIDs(f)
			return r, true
		}
	}
	return gate.Reading{}, false
}
