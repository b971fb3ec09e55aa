//go:build linux

package linux

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/host/common"
	"uakari/internal/look/host/programfiles"
	"uakari/internal/program"
)

// accountsOf are the programs that keep accounts themselves, and how each is asked
// for one of them, or for all where none is named.
var accountsOf = map[string]func(ctx context.Context, pid int, t fact.Target) (fact.Accounts, error){
	program.PostgreSQL: postgresRoles, program.Slapd: directoryEntries, program.Redis: storeUsers,
}

// Accounts leaves the state of the accounts that the program on a port keeps
// itself. A database and a directory are asked as their own administrator,
// over their local socket; only root may do that.
func Accounts(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	left := false
	for name, pid := range programsOn(ctx, env, order.Target.Port) {
		ask := accountsOf[name]
		if ask == nil || !sameRoot(pid) {
			continue
		}
		left = true
		within, cancel := context.WithTimeout(ctx, askTime)
		a, err := ask(within, pid, order.Target)
		cancel()
		if err != nil {
			emit(
				env.Failed(
					order,
					"the accounts of "+name,
					"could not ask for its accounts",
					err,
					"root, and a local socket that lets the administrator in without a secret",
				),
			)
			continue
		}
		a.Program, a.Of = name, order.Target.Account
		saw := fmt.Sprintf("%d accounts", len(a.List))
		if a.Of != "" {
			saw = "no account " + a.Of
			if len(a.List) > 0 {
				saw = "the state of " + a.Of
			}
		}
		f := env.Seen(order, "the accounts of "+name+", "+a.Place, saw)
		f.Accounts = &a
		emit(f)
	}
	if !left {
		emit(
			env.Failed(
				order,
				"accounts",
				"could not ask the service for its accounts",
				errors.New("no program that keeps accounts was seen on its port"),
				"root, on the host that it runs on",
			),
		)
	}
}

// dialAs connects to a local socket as another user: the other end sees who
// connected (unix(7), SO_PEERCRED). The thread that became that user ends with
// the connect.
func dialAs(ctx context.Context, uid int, path string, pid int) (net.Conn, error) {
	type result struct {
		fd  int
		err error
	}
	done := make(chan result, 1)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread is not used again
		if _, _, errno := unix.RawSyscall(unix.SYS_SETRESUID, ^uintptr(0), uintptr(uid), ^uintptr(0)); errno != 0 {
			done <- result{err: errno}
			return
		}
		fd, err := unix.Socket(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
		if err == nil {
			limit := unix.NsecToTimeval(int64(look.Within(ctx, askTime)))
			unix.SetsockoptTimeval(
				fd,
				unix.SOL_SOCKET,
				unix.SO_SNDTIMEO,
				&limit,
			) // without it, connecting waits without end
			if err = unix.Connect(fd, &unix.SockaddrUnix{Name: path}); err != nil {
				unix.Close(fd)
			}
		}
		done <- result{fd, err}
	}()
	r := <-done
	if r.err != nil {
		return nil, fmt.Errorf("%s: %w", path, r.err)
	}
	file := os.NewFile(uintptr(r.fd), path)
	defer file.Close()
	conn, err := net.FileConn(file)
	if err != nil {
		return nil, err
	}
	conn.SetDeadline(time.Now().Add(look.Within(ctx, askTime)))
	if peer, err := peerOf(conn.(*net.UnixConn)); err != nil || peer != pid {
		conn.Close()
		return nil, fmt.Errorf("process %d answers at %s, not %d", peer, path, pid)
	}
	return conn, nil
}

// ownerOf is the user that a process runs as.
func ownerOf(pid int) (int, error) {
	info, err := os.Stat(procFile(pid, ""))
	if err != nil {
		return 0, err
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, errors.ErrUnsupported
	}
	return int(st.Uid), nil
}

// storeUsers reads the users of Redis from its settings and the file that they
// name, without what their secrets are (its manual, "ACL").
func storeUsers(_ context.Context, pid int, t fact.Target) (fact.Accounts, error) {
	a := fact.Accounts{Else: "changes that were made while it runs"}
	files := onHost.SettingsOf(programfiles.Shipped(program.Redis), pid)
	seen, right := map[string]bool{}, false
	for i := 0; i < len(files) && i < 20; i++ {
		from := files[i]
		if from.Err != nil {
			return a, from.Err
		}
		for line := range strings.Lines(string(from.Text)) {
			words := strings.Fields(line)
			switch {
			case len(words) == 2 && slices.Contains([]string{"port", "tls-port"}, strings.ToLower(words[0])):
				right = right || words[1] == fmt.Sprint(t.Port)
			case len(words) == 2 && strings.EqualFold(words[0], "aclfile"):
				path := strings.Trim(words[1], `"'`)
				text, by, err := from.By.Settings(path, common.MostSettings)
				files = append(files, programfiles.Source{Path: path, Text: text, Err: err, By: by})
			case len(words) >= 2 && strings.EqualFold(words[0], "user") && !seen[words[1]]:
				seen[words[1]] = true
				s := fact.ServiceAccount{Name: words[1], NoLogin: true}
				for _, w := range words[2:] {
					switch {
					case w == "on" || w == "off":
						s.NoLogin = w == "off"
					case w == "nopass" || w[0] == '>' || w[0] == '#':
						s.Secret = "set"
					}
				}
				a.List = append(a.List, s)
			}
		}
	}
	// It hides what it was started with, unless it is told not to.
	if !right {
		return a, errors.New("the settings that it was started with were not found")
	}
	var paths []string
	for _, from := range files {
		paths = append(paths, from.Path)
	}
	a.Place = "read in " + strings.Join(paths, ", ")
	if !seen["default"] {
		a.List = append(a.List, fact.ServiceAccount{Name: "default"})
	}
	if t.Account != "" {
		for _, s := range a.List {
			if s.Name == t.Account {
				a.List = []fact.ServiceAccount{s}
				return a, nil
			}
		}
		a.List = nil
	}
	return a, nil
}
