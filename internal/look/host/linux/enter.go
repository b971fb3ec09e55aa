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
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// Inside runs this program anew, with some words, within the namespaces of a
// container, of a process, or of a network: as a program in there, it sees its
// files and its network, and needs nothing of what is in it. The place is the
// name or number of a container, the number of a process, or the name or path of
// a network namespace.
func Inside(ctx context.Context, place string, words []string, in io.Reader, out, complaints io.Writer) error {
	pid, network, err := placeOf(ctx, place)
	if err != nil {
		return err
	}
	self, err := os.Open("/proc/self/exe")
	if err != nil {
		return err
	}
	defer self.Close()
	const first = 3 // after those of every process
	cmd := &exec.Cmd{
		Path: fmt.Sprintf(
			"/proc/self/fd/%d",
			first,
		), Args: append([]string{"uakari"}, words...), ExtraFiles: []*os.File{self},
		Stdin: in, Stdout: out, Stderr: complaints, Dir: "/", Env: os.Environ(),
	}
	if pid != 0 {
		cmd.Env = environmentOf(pid)
	}
	started := make(chan error, 1)
	go func() {
		// The thread is another's place from now on: it ends with this function.
		runtime.LockOSThread()
		err := enter(pid, network)
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

// enter puts the calling thread, which must be locked, into namespaces.
func enter(pid int, network string) error {
	set := func(path string, kind int) error {
		fd, err := unix.Open(path, unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		return unix.Setns(fd, kind)
	}
	if network != "" {
		return set(network, unix.CLONE_NEWNET)
	}
	// All are opened from where this process sees them, the mounts last.
	if err := unix.Unshare(unix.CLONE_FS); err != nil {
		return err
	}
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
	return nil
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
