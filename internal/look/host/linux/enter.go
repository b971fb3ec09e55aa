//go:build linux

package linux

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// Inside runs this program again, with some words, within the namespaces of a
// container, of a process, or of a network: as a program in there, it sees its
// files and its network, with the user, groups and capabilities of that process and
// no more, and executes nothing of what is in it. The place is the
// name or number of a container, the number of a process, or the name or path of
// a network namespace.
func Inside(ctx context.Context, place string, words []string, in io.Reader, out, complaints io.Writer) error {
	pid, network, err := placeOf(ctx, place)
	if err != nil {
		return err
	}
	cmd := &exec.Cmd{
		Path: "./" + sealedName, Args: append([]string{"uakari"}, words...),
		Stdin: in, Stdout: out, Stderr: complaints, Env: os.Environ(),
	}
	dir, err := sealed()
	if err != nil {
		return err
	}
	defer dir.Close()
	var may *rights
	if pid != 0 && ownFiles(pid) {
		cmd.Args = append(cmd.Args, "inside") // nothing of it is executed
	}
	if pid != 0 {
		r, err := rightsOf(pid)
		if err != nil {
			return fmt.Errorf("--in %s: %w", place, err)
		}
		may, cmd.Env = &r, environmentOf(pid)
	}
	started := make(chan error, 1)
	go func() {
		// The thread is another's place from now on: it ends with this function.
		runtime.LockOSThread()
		err := enter(pid, network, dir)
		if err == nil && may != nil {
			// What starts there is no more than the place's own processes are, before it starts.
			if err = may.take(); err == nil {
				err = forbid(append(slices.Clone(denied), deniedHere...), false)
			}
		}
		if err == nil {
			err = cmd.Start()
		}
		started <- err
		if err == nil {
			cmd.Wait() // its child is the thread's
		}
		started <- nil
	}()
	if err := <-started; err != nil {
		if errors.Is(err, unix.EPERM) || errors.Is(err, os.ErrPermission) {
			return fmt.Errorf("--in %s: only root may look from there: %w", place, err)
		}
		return fmt.Errorf("--in %s: %w", place, err)
	}
	<-started
	return nil
}

// enter puts the calling thread, which must be locked, into namespaces, and its
// working folder where the program is.
func enter(pid int, network string, dir *os.File) error {
	set := func(path string, kind int) error {
		fd, err := unix.Open(path, unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		return unix.Setns(fd, kind)
	}
	if err := unix.Unshare(unix.CLONE_FS); err != nil {
		return err
	}
	if network != "" {
		return errors.Join(set(network, unix.CLONE_NEWNET), unix.Fchdir(int(dir.Fd())))
	}
	// All are opened from where this process sees them, the mounts last.
	kinds := []struct {
		name string
		kind int
	}{{"net", unix.CLONE_NEWNET}, {"uts", unix.CLONE_NEWUTS}, {"ipc", unix.CLONE_NEWIPC}, {"pid", unix.CLONE_NEWPID},
		{"mnt", unix.CLONE_NEWNS}}
	for _, k := range kinds {
		path := procFile(pid, "ns/"+k.name)
		theirs, err := os.Readlink(path)
		ours, err2 := os.Readlink("/proc/self/ns/" + k.name)
		if err := errors.Join(err, err2); err != nil {
			return err
		}
		if theirs == ours {
			continue
		}
		if err := set(path, k.kind); err != nil {
			return fmt.Errorf("its namespace %s: %w", k.name, err)
		}
	}
	return unix.Fchdir(int(dir.Fd()))
}

// ownFiles reports whether a process sees other files than this one.
func ownFiles(pid int) bool {
	theirs, err := os.Readlink(procFile(pid, "ns/mnt"))
	ours, err2 := os.Readlink("/proc/self/ns/mnt")
	return err != nil || err2 != nil || theirs != ours
}

// environmentOf is what of a process's environment clients go by: where its
// proxies are, and its home.
func environmentOf(pid int) []string {
	list := []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin"}
	text, err := os.ReadFile(procFile(pid, "environ"))
	if err != nil {
		return list
	}
	for each := range strings.SplitSeq(string(text), "\x00") {
		name, _, _ := strings.Cut(each, "=")
		if low := strings.ToLower(name); strings.HasSuffix(low, "_proxy") || low == "home" || low == "ssl_cert_file" ||
			low == "ssl_cert_dir" ||
			low == "localdomain" ||
			low == "res_options" {
			list = append(list, each)
		}
	}
	return list
}

// placeOf is the process or the network namespace that a place means.
func placeOf(ctx context.Context, place string) (pid int, network string, err error) {
	if n, err := strconv.Atoi(place); err == nil && n > 0 {
		if _, ok := process(n); !ok {
			return 0, "", fmt.Errorf("--in %s: no such process", place)
		}
		return n, "", nil
	}
	if filepath.IsAbs(place) {
		if _, err := os.Stat(place); err != nil {
			return 0, "", fmt.Errorf("--in %s: %w", place, err)
		}
		return 0, place, nil
	}
	for _, folder := range []string{"/run/netns", "/var/run/netns"} {
		if path := filepath.Join(folder, place); filepath.Base(path) == place {
			if _, err := os.Stat(path); err == nil {
				return 0, path, nil
			}
		}
	}
	var found *fact.Containers
	Containers(ctx, look.Env{}, fact.Order{Look: fact.LookContainers}, func(f fact.Fact) {
		if f.Containers != nil {
			found = f.Containers
		}
	})
	var names []string
	if found != nil {
		for _, c := range found.List {
			if c.Name == place || len(place) >= 4 && strings.HasPrefix(c.ID, place) {
				if c.PID == 0 {
					return 0, "", fmt.Errorf("--in %s: the container does not run (%s)", place, c.State)
				}
				return c.PID, "", nil
			}
			if c.Name != "" {
				names = append(names, c.Name)
			}
		}
	}
	known := "no container that is seen here has a name"
	if len(names) > 0 {
		known = "known here: " + strings.Join(names, ", ")
	}
	return 0, "", fmt.Errorf(
		"--in %q: expected a container, the number of a process, or a network namespace; %s",
		place,
		known,
	)
}
