//go:build linux

package linux

import (
	"context"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/coreos/go-systemd/v22/dbus"

	"uakari/internal/fact"
)

// Bounds on what is kept of a unit.
const (
	mostLog   = 60 // last log lines
	mostUnits = 40 // required units that are looked at
)

// startedMessage marks the journal's entry for a unit that was started
// (systemd's catalogue of messages, SD_MESSAGE_UNIT_STARTED).
const startedMessage = "39f53479d3a045ac8e11786248231fbf"

// stoppedMessage is the same for one that was stopped (SD_MESSAGE_UNIT_STOPPED).
const stoppedMessage = "9d1aaa27d60140bd96365438aad20286"

// unitState asks the manager for a unit. Its log is read where something is
// wrong with it, or deep is asked for. It reports whether the unit exists.
func unitState(ctx context.Context, conn *dbus.Conn, name string, deep bool) (fact.Unit, bool) {
	props, err := conn.GetAllPropertiesContext(ctx, name)
	if err != nil {
		return fact.Unit{}, false
	}
	p := properties(props)
	u := fact.Unit{
		Name:   p.text("Id"),
		Load:   p.text("LoadState"),
		Active: p.text("ActiveState"),
		Sub:    p.text("SubState"),
		Result: p.text(
			"Result",
		),
		Enabled:  p.enabled(),
		Sockets:  p.list("TriggeredBy"),
		Restarts: p.number("NRestarts"),
	}
	if u.Name == "" {
		u.Name = name
	}
	u.Started = !p.started().IsZero()
	if micros, ok := props["StateChangeTimestamp"].(uint64); ok && micros > 0 {
		u.Since = time.UnixMicro(int64(micros)).UTC()
	}
	const killed, dumped = 2, 3 // si_code of sigaction(2): CLD_KILLED, CLD_DUMPED
	u.Status, u.Signal = p.number(
		"ExecMainStatus",
	), p.number("ExecMainCode") == killed ||
		p.number("ExecMainCode") == dumped
	u.MainPID, u.Runs = p.number("ExecMainPID"), p.programs("ExecStart")
	u.Private, _ = props["PrivateNetwork"].(bool)
	u.Denies, u.Allows = p.prefixes("IPAddressDeny"), p.prefixes("IPAddressAllow")
	u.Failed = p.conditions()
	u.Listens = p.pairs("Listen")
	if u.Load == "not-found" {
		return u, false
	}
	// An old start script counts as active whatever became of what it started.
	healthy := u.Active == "active" && u.Restarts == 0 && (u.Sub != "exited" || p.text("Type") == "oneshot")
	if !healthy {
		u.Down = down(ctx, conn, slices.Concat(p.list("Requires"), p.list("Requisite"), p.list("BindsTo")))
		if u.Active != "active" && u.Load != "masked" {
			u.Checked, u.Blocked, u.LeastPort = true, nextStart(ctx, conn, p), leastPort(p)
		}
	}
	if !healthy || deep {
		readLog(ctx, &u)
	}
	if block, ok := startLimit(p, u.Log); ok && u.Checked {
		u.Blocked = append([]fact.StartBlock{block}, u.Blocked...)
	}
	return u, true
}

// down is the units of a list that are not up.
func down(ctx context.Context, conn *dbus.Conn, names []string) []string {
	var list []string
	for _, name := range names[:min(len(names), mostUnits)] {
		if strings.HasSuffix(name, ".slice") || strings.HasSuffix(name, ".target") {
			continue
		}
		props, err := conn.GetAllPropertiesContext(ctx, name)
		if err != nil {
			continue
		}
		if state := properties(props).text("ActiveState"); state != "active" && state != "activating" &&
			state != "reloading" {
			list = append(list, fmt.Sprintf("%s (%s)", name, state))
		}
	}
	return list
}

// readLog fills in a unit's last lines and how often it was started.
func readLog(ctx context.Context, u *fact.Unit) {
	lines, err := journal(ctx, "-b", "-u", u.Name, "-n", fmt.Sprint(mostLog))
	if err != nil {
		u.Hidden = err.Error()
		return
	}
	u.Log = lines
	u.Started = u.Started || slices.ContainsFunc(lines, func(l fact.LogLine) bool {
		return l.Unit == u.Name && (strings.HasPrefix(l.Text, "Started ") || strings.HasPrefix(l.Text, "Stopped "))
	})
	if starts, err := journal(ctx, "--since", "-24h", "MESSAGE_ID="+startedMessage, "UNIT="+u.Name); err == nil {
		u.Starts = len(starts)
	}
}

// properties are a unit's, as the bus gives them.
type properties map[string]any

func (p properties) text(key string) string {
	s, _ := p[key].(string)
	return s
}

func (p properties) list(key string) []string {
	s, _ := p[key].([]string)
	return s
}

func (p properties) number(key string) int {
	switch n := p[key].(type) {
	case uint32:
		return int(n)
	case int32:
		return int(n)
	}
	return 0
}

// pairs reads a list of (string, string).
func (p properties) pairs(key string) []string {
	rows, _ := p[key].([][]any)
	var list []string
	for _, row := range rows {
		if len(row) == 2 {
			list = append(list, fmt.Sprintf("%v %v", row[0], row[1]))
		}
	}
	return list
}

// enabled is whether a unit is started with the system, as the manager calls it. One made
// of an old start script is, if something wants it: its links in the folders of levels
// became that (systemd-sysv-generator(8)).
func (p properties) enabled() string {
	state := p.text("UnitFileState")
	if state == "generated" && len(p.list("WantedBy")) > 0 {
		return "enabled"
	}
	return state
}

// started is when a unit last began to run; zero: not since the host did.
func (p properties) started() time.Time {
	if micros, ok := p["InactiveExitTimestamp"].(uint64); ok && micros > 0 {
		return time.UnixMicro(int64(micros)).UTC()
	}
	return time.Time{}
}

// command is the words of the first command of a list.
func (p properties) command(key string) []string {
	rows, _ := p[key].([][]any)
	if len(rows) == 0 || len(rows[0]) < 2 {
		return nil
	}
	words, _ := rows[0][1].([]string)
	if path, ok := rows[0][0].(string); ok && len(words) > 0 {
		words = append([]string{path}, words[1:]...)
	}
	return words
}

// programs reads a list of commands, of which the program comes first.
func (p properties) programs(key string) []string {
	rows, _ := p[key].([][]any)
	var list []string
	for _, row := range rows {
		if len(row) == 0 {
			continue
		}
		if path, ok := row[0].(string); ok && path != "" {
			list = append(list, filepath.Base(path))
		}
	}
	return list
}

// prefixes reads an address list: (family, bytes, prefix length).
func (p properties) prefixes(key string) []string {
	rows, _ := p[key].([][]any)
	var list []string
	for _, row := range rows {
		if len(row) != 3 {
			continue
		}
		bytes, _ := row[1].([]byte)
		bits, _ := row[2].(uint32)
		if addr, ok := netip.AddrFromSlice(bytes); ok {
			list = append(list, netip.PrefixFrom(addr, int(bits)).String())
		}
	}
	return list
}

// conditions is those that were not met: (kind, trigger, negate, parameter,
// result), where a result below zero is a failure.
func (p properties) conditions() []string {
	rows, _ := p["Conditions"].([][]any)
	var list []string
	for _, row := range rows {
		if len(row) == 5 {
			if result, ok := row[4].(int32); ok && result < 0 {
				list = append(list, fmt.Sprintf("%v=%v", row[0], row[3]))
			}
		}
	}
	return list
}
