//go:build linux

package linux

import (
	"bufio"
	"bytes"
	"context"
	"debug/elf"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/coreos/go-systemd/v22/dbus"
	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look/host/programfiles"
	"uakari/internal/settingsfile"
)

// nextStart is what the next start of a unit would fail at, before its program runs: what
// the manager asks for by the unit's own settings, looked at now and without starting
// anything (systemd.exec(5), "Process Exit Codes"; systemd.unit(5)).
func nextStart(ctx context.Context, conn *dbus.Conn, p properties) []fact.StartBlock {
	b := &blocks{p: p, as: p.text("User"), first: startedFirst(ctx, conn, p)}
	b.loaded()
	b.asserts()
	b.needs(ctx, conn)
	b.account()
	b.folders()
	b.files()
	b.programs("ExecStartPre")
	b.programs("ExecStart")
	return b.list
}

type blocks struct {
	p    properties
	as   string // the user that the program runs as; "" for root
	list []fact.StartBlock
	// first is a unit that the start starts before: what is missing now, it may provide.
	first string
}

// providers is the kinds of units that make files and folders when they start.
var providers = []string{".service", ".mount", ".automount"}

// startedFirst is a unit that a start pulls in, and that does not run yet; "" for none.
func startedFirst(ctx context.Context, conn *dbus.Conn, p properties) string {
	names := slices.Concat(p.list("Requires"), p.list("BindsTo"), p.list("Wants"))
	for _, name := range names[:min(len(names), mostUnits)] {
		if !slices.Contains(providers, filepath.Ext(name)) {
			continue
		}
		props, err := conn.GetAllPropertiesContext(ctx, name)
		if err != nil {
			continue
		}
		if q := properties(props); q.text("ActiveState") != "active" && q.text("LoadState") == "loaded" {
			return name
		}
	}
	return ""
}

// made is the folders that the manager makes for a unit before its program runs
// (systemd.exec(5), RuntimeDirectory and the like), and those that only the program sees.
func (b *blocks) made(path string) bool {
	for key, below := range map[string]string{"RuntimeDirectory": "/run", "StateDirectory": "/var/lib",
		"CacheDirectory": "/var/cache", "LogsDirectory": "/var/log", "ConfigurationDirectory": "/etc"} {
		for _, name := range b.p.list(key) {
			folder := filepath.Join(below, name)
			if path == folder || strings.HasPrefix(path, folder+"/") || strings.HasPrefix(folder, path+"/") {
				return true
			}
		}
	}
	for _, own := range append(b.p.pairs("TemporaryFileSystem"), "/tmp ", "/var/tmp ") {
		own, _, _ = strings.Cut(own, " ")
		if private, _ := b.p["PrivateTmp"].(bool); !private && (own == "/tmp" || own == "/var/tmp") {
			continue
		}
		if path == own || strings.HasPrefix(path, own+"/") {
			return true
		}
	}
	return b.rooted()
}

// rooted is that the program has another root: what is below it was not looked at.
func (b *blocks) rooted() bool { return b.p.text("RootDirectory") != "" || b.p.text("RootImage") != "" }

func (b *blocks) add(kind, setting, path, format string, args ...any) {
	block := fact.StartBlock{Kind: kind, Setting: setting, Path: path, Text: fmt.Sprintf(format, args...)}
	if provided := []string{"folder", "file", "program", "assert"}; slices.Contains(provided, kind) {
		block.After = b.first
	}
	b.list = append(b.list, block)
}

// loaded is a unit that the manager itself could not read.
func (b *blocks) loaded() {
	if state := b.p.text("LoadState"); state == "bad-setting" || state == "error" {
		why := ""
		if rows, ok := b.p["LoadError"].([]any); ok && len(rows) == 2 {
			why, _ = rows[1].(string)
		}
		b.add("unit", "", b.p.text("FragmentPath"), "systemd does not take the unit's own file: %s", why)
	}
}

// startLimit is a unit that was started too often a moment ago, by its log: the manager
// keeps the result of the last start that it took on.
func startLimit(p properties, log []fact.LogLine) (fact.StartBlock, bool) {
	window, _ := p["StartLimitIntervalUSec"].(uint64)
	at := slices.IndexFunc(log, func(l fact.LogLine) bool {
		return strings.HasSuffix(l.Text, "Start request repeated too quickly.") &&
			time.Since(l.At) < time.Duration(window)*time.Microsecond
	})
	started := func(l fact.LogLine) bool { return strings.HasPrefix(l.Text, "Started ") }
	if at < 0 || slices.ContainsFunc(log[at:], started) {
		return fact.StartBlock{}, false
	}
	return fact.StartBlock{Kind: "limit", Setting: "StartLimitIntervalSec", Text: fmt.Sprintf(
		"it was started too often, and systemd refuses more for a while (of %s from the first of them)",
		time.Duration(window)*time.Microsecond)}, true
}

// asserts is what must be there for a start not to fail; of kinds that can be looked at.
func (b *blocks) asserts() {
	rows, _ := b.p["Asserts"].([][]any)
	for _, row := range rows {
		if len(row) != 5 {
			continue
		}
		kind, _ := row[0].(string)
		negate, _ := row[2].(bool)
		path, _ := row[3].(string)
		if holds, known := conditionHolds(kind, path); known && holds == negate {
			b.add("assert", kind, path, "its %s=%s does not hold", kind, path)
		}
	}
}

// conditionHolds evaluates a condition about a path (systemd.unit(5)).
func conditionHolds(kind, path string) (holds, known bool) {
	name := strings.TrimPrefix(strings.TrimPrefix(kind, "Assert"), "Condition")
	info, err := os.Stat(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, false
	}
	switch name {
	case "PathExists":
		return err == nil, true
	case "PathIsDirectory":
		return err == nil && info.IsDir(), true
	case "FileNotEmpty":
		return err == nil && info.Mode().IsRegular() && info.Size() > 0, true
	}
	return false, false
}

// needs is units that a start pulls in and that cannot be started themselves.
func (b *blocks) needs(ctx context.Context, conn *dbus.Conn) {
	for _, key := range []string{"Requires", "BindsTo", "Requisite"} {
		names := b.p.list(key)
		for _, name := range names[:min(len(names), mostUnits)] {
			props, err := conn.GetAllPropertiesContext(ctx, name)
			if err != nil {
				continue
			}
			q := properties(props)
			switch load, active := q.text("LoadState"), q.text("ActiveState"); {
			case active == "active":
			case load == "masked", load == "not-found", load == "bad-setting":
				b.add("needs", key, name, "it needs %s, which is %s", name, load)
			case key == "Requisite":
				b.add("needs", key, name, "it wants %s to run already, and that is %s", name, active)
			case strings.HasSuffix(name, ".mount") && strings.HasPrefix(q.text("What"), "/dev/"):
				if _, err := os.Stat(q.text("What")); errors.Is(err, fs.ErrNotExist) {
					b.add("needs", key, name, "it needs what is mounted at %s, and %s is not there", q.text("Where"),
						q.text("What"))
				}
			}
		}
	}
}

// account is the user and groups that the program would run as.
func (b *blocks) account() {
	if dynamic, _ := b.p["DynamicUser"].(bool); dynamic {
		b.as = ""
		return
	}
	if len(otherSources()) > 0 {
		return // accounts come from elsewhere too, and nobody asked there
	}
	var missing user.UnknownUserError
	if _, err := user.Lookup(b.as); b.as != "" && strings.Trim(b.as, "0123456789") != "" && errors.As(err, &missing) {
		b.add("account", "User", b.as, "there is no account %s, as which its unit runs it", b.as)
		b.as = ""
	}
	var none user.UnknownGroupError
	if group := b.p.text("Group"); group != "" && strings.Trim(group, "0123456789") != "" {
		if _, err := user.LookupGroup(group); errors.As(err, &none) {
			b.add("account", "Group", group, "there is no group %s, with which its unit runs it", group)
		}
	}
}

// folders is what must be there for the program's own view of the file system.
func (b *blocks) folders() {
	if path := b.p.text("WorkingDirectory"); path != "" && path[0] == '/' && !b.made(path) {
		info, err := os.Stat(path)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			b.add("folder", "WorkingDirectory", path, "its working folder %s is not there", path)
		case err == nil && !info.IsDir():
			b.add("folder", "WorkingDirectory", path, "its working folder %s is no folder", path)
		case err == nil && b.as != "":
			if _, why, _, _ := stoppedOn(b.as, filepath.Join(path, "within")); why != "" {
				b.add("folder", "WorkingDirectory", path, "%s, its working folder", why)
			}
		}
	}
	for _, key := range []string{"RootDirectory", "RootImage"} {
		if path := b.p.text(key); strings.HasPrefix(path, "/") && absent(path) {
			b.add("folder", key, path, "the file system that it runs in, %s, is not there", path)
		}
	}
	for _, key := range []string{"ReadWritePaths", "ReadOnlyPaths", "InaccessiblePaths", "ExecPaths"} {
		for _, path := range b.p.list(key) {
			// "-" in front: it may be missing; "+": below the root that the service is given.
			if strings.HasPrefix(path, "/") && !b.made(path) && absent(path) {
				b.add("folder", key, path, "%s of its unit names %s, which is not there", key, path)
			}
		}
	}
	for _, key := range []string{"BindPaths", "BindReadOnlyPaths"} {
		rows, _ := b.p[key].([][]any)
		for _, row := range rows {
			if len(row) < 3 {
				continue
			}
			path, _ := row[0].(string)
			if ignore, _ := row[2].(bool); !ignore && strings.HasPrefix(path, "/") && absent(path) {
				b.add("folder", key, path, "%s of its unit names %s, which is not there", key, path)
			}
		}
	}
}

// files is those with variables and secrets that the manager reads itself.
func (b *blocks) files() {
	rows, _ := b.p["EnvironmentFiles"].([][]any)
	for _, row := range rows {
		if len(row) != 2 {
			continue
		}
		path, _ := row[0].(string)
		if ignore, _ := row[1].(bool); !ignore && !strings.ContainsAny(path, "*?[") && absent(path) {
			b.add("file", "EnvironmentFile", path, "its file of variables %s is not there", path)
		}
	}
	for _, key := range []string{"LoadCredential", "LoadCredentialEncrypted"} {
		rows, _ := b.p[key].([][]any)
		for _, row := range rows {
			if len(row) != 2 {
				continue
			}
			if path, _ := row[1].(string); strings.HasPrefix(path, "/") && absent(path) {
				b.add("file", key, path, "the file %s, which it is handed, is not there", path)
			}
		}
	}
}

// programs is those that are run, in their order; the first that cannot be ends the start.
func (b *blocks) programs(key string) {
	rows, _ := b.p[key+"Ex"].([][]any) // with the marks that stand before a command
	for _, row := range rows {
		if len(row) < 3 {
			continue
		}
		path, _ := row[0].(string)
		marks, _ := row[2].([]string)
		if slices.Contains(marks, "ignore-failure") || !filepath.IsAbs(path) || b.rooted() {
			continue
		}
		as := b.as
		if slices.Contains(marks, "privileged") || slices.Contains(marks, "no-setuid") {
			as = ""
		}
		if why := cannotRun(as, path); why != "" {
			b.add("program", key, path, "%s", why)
			return
		}
	}
}

// machines is the machines of programs by what Go calls this one.
var machines = map[string]elf.Machine{"amd64": elf.EM_X86_64, "arm64": elf.EM_AARCH64}

// cannotRun is why a program cannot be executed; "" if nothing was seen that stops it.
func cannotRun(as, path string) string {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Sprintf("its program %s is not there", path)
	case err != nil:
		return ""
	case info.IsDir():
		return fmt.Sprintf("its program %s is a folder", path)
	case info.Mode().Perm()&0o111 == 0:
		return fmt.Sprintf("its program %s may be executed by nobody (mode %04o)", path, info.Mode().Perm())
	}
	if as != "" {
		if _, why, _, _ := stoppedOn(as, filepath.Join(path, "run")); why != "" {
			return strings.Replace(why, "may not enter "+path, "may not execute "+path, 1)
		}
	}
	var fsinfo unix.Statfs_t
	if unix.Statfs(path, &fsinfo) == nil && fsinfo.Flags&unix.ST_NOEXEC != 0 {
		return fmt.Sprintf("its program %s lies on a file system that is mounted noexec", path)
	}
	return badHead(path)
}

// badHead is what is wrong with how a program begins: an interpreter that is not there, or
// another machine's code.
func badHead(path string) string {
	f, err := os.Open(path)
	if err != nil {
		return ""
	}
	defer f.Close()
	head, _ := bufio.NewReaderSize(f, 512).Peek(256)
	if line, ok := bytes.CutPrefix(head, []byte("#!")); ok {
		line, _, _ = bytes.Cut(line, []byte("\n"))
		words := strings.Fields(string(line))
		switch {
		case bytes.HasSuffix(bytes.TrimRight(line, " "), []byte("\r")):
			return fmt.Sprintf("%s ends its first line as Windows does, so that its interpreter is not found", path)
		case len(words) > 0 && filepath.IsAbs(words[0]) && absent(words[0]):
			return fmt.Sprintf("the interpreter of %s, %s, is not there", path, words[0])
		}
		return ""
	}
	// The machine stands at a fixed place (elf(5)), also where the rest cannot be read.
	const machineAt = 18
	if want, known := machines[runtime.GOARCH]; known && bytes.HasPrefix(head, []byte(elf.ELFMAG+"\x02\x01")) &&
		len(head) > machineAt+1 {
		if m := elf.Machine(binary.LittleEndian.Uint16(head[machineAt:])); m != want {
			kind := strings.TrimPrefix(m.String(), "EM_")
			return fmt.Sprintf("%s is made for another kind of machine (%s)", path, kind)
		}
	}
	program, err := elf.NewFile(f)
	if err != nil {
		return ""
	}
	for _, part := range program.Progs {
		if part.Type != elf.PT_INTERP || part.Filesz > 256 {
			continue
		}
		text := make([]byte, part.Filesz)
		if _, err := part.ReadAt(text, 0); err != nil {
			continue
		}
		if loader := strings.TrimRight(string(text), "\x00"); absent(loader) {
			return fmt.Sprintf("the loader that %s asks for, %s, is not there", path, loader)
		}
	}
	return ""
}

// strictGrammars are those in which a file is of the grammar or is not.
var strictGrammars = []string{"yaml", "json", "xml", "toml"}

// unparsed adds to the units of a program that its settings are not of their grammar.
func unparsed(p *fact.Program, grammar string, from []programfiles.Source) {
	if !slices.Contains(strictGrammars, grammar) {
		return
	}
	for _, each := range from {
		_, err := settingsfile.Read(string(each.Text), grammar)
		if err == nil || each.Err != nil {
			continue
		}
		for i := range p.Units {
			if p.Units[i].Checked {
				p.Units[i].Blocked = append(p.Units[i].Blocked, fact.StartBlock{
					Kind: "settings", Path: each.Path,
					Text: fmt.Sprintf("its settings cannot be read: %s: %v", each.Path, err),
				})
			}
		}
	}
}

// leastPort is the lowest port that a unit's program may listen on; 0 where any
// (capabilities(7), CAP_NET_BIND_SERVICE; ip_unprivileged_port_start).
func leastPort(p properties) uint16 {
	const bindService = 1 << 10
	as := p.text("User")
	dynamic, _ := p["DynamicUser"].(bool)
	if as == "" && !dynamic || as == "root" || as == "0" || len(p.list("TriggeredBy")) > 0 {
		return 0
	}
	ambient, _ := p["AmbientCapabilities"].(uint64)
	words := p.command("ExecStart")
	if ambient&bindService != 0 || len(words) == 0 {
		return 0
	}
	// What stands in the file may give it the right, whatever it is exactly.
	if n, err := unix.Getxattr(words[0], "security.capability", nil); err == nil && n > 0 {
		return 0
	}
	if info, err := os.Stat(words[0]); err != nil || info.Mode()&os.ModeSetuid != 0 {
		return 0
	}
	text, err := os.ReadFile("/proc/sys/net/ipv4/ip_unprivileged_port_start")
	if err != nil {
		return 0
	}
	var least uint16
	if _, err := fmt.Sscan(string(text), &least); err != nil {
		return 0
	}
	return least
}

func absent(path string) bool {
	_, err := os.Stat(path)
	return errors.Is(err, fs.ErrNotExist)
}
