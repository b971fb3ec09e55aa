//go:build linux

package linux

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/coreos/go-systemd/v22/dbus"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// ownUnit reports whether a control group is that of a unit of this host's
// manager: those of containers, which may have managers of their own, lie
// deeper or elsewhere.
func ownUnit(text string) bool {
	for line := range strings.Lines(text) {
		if path, ok := strings.CutPrefix(strings.TrimSpace(line), "0::/system.slice/"); ok {
			unit, below, _ := strings.Cut(path, "/")
			return strings.HasSuffix(unit, ".service") && !strings.Contains(below, ".slice") &&
				!strings.Contains(below, ".service") &&
				!strings.Contains(below, "payload")
		}
	}
	return false
}

// managed reports whether systemd runs this host (sd_booted(3)).
func managed() bool {
	_, err := os.Stat("/run/systemd/system")
	return err == nil || !errors.Is(err, fs.ErrNotExist)
}

// askManager fills in the units of each program that is there, and those that
// the card needs.
func askManager(ctx context.Context, s *fact.Service, env look.Env) error {
	programs := s.Programs
	held := slices.ContainsFunc(programs, func(p fact.Program) bool { return p.Why == "holder" })
	conn, err := dbus.NewWithContext(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	for i := range programs {
		p := &programs[i]
		names := unitNames(ctx, conn, *p, env)
		p.Units = nil
		for _, name := range names {
			u, ok := unitState(ctx, conn, name, env.Deep)
			if (held && p.Why != "holder" || p.Why == "evidence") && u.Active == "active" && len(u.Log) == 0 {
				readLog(ctx, &u) // it runs beside whoever holds the port
			}
			if ok || p.Why == "card" || p.Why == "unit" {
				p.Units = append(p.Units, u)
			}
		}
	}
	if env.Card != nil {
		for _, name := range env.Card.Needs {
			if !strings.Contains(name, ".") {
				name += ".service"
			}
			u, _ := unitState(ctx, conn, name, env.Deep) // one that is not there is a fact too
			s.Needs = append(s.Needs, u)
		}
	}
	return nil
}

// unitNames is the units that could run a program. Patterns are matched
// against what the manager has loaded.
func unitNames(ctx context.Context, conn *dbus.Conn, p fact.Program, env look.Env) []string {
	var names []string
	for _, u := range p.Units {
		names = append(names, u.Name)
	}
	if p.Why == "holder" || p.Why == "card" || p.Why == "unit" || p.Why == "evidence" {
		return names
	}
	if p.Path == "" {
		return names
	}
	row, _ := env.Registry().Of(p.Name)
	for _, unit := range row.Units {
		if !strings.Contains(unit, "*") {
			names = append(names, unit)
			continue
		}
		if list, err := conn.ListUnitsByPatternsContext(ctx, nil, []string{unit}); err == nil {
			for _, each := range list {
				names = append(names, each.Name)
			}
		}
	}
	return names
}
