//go:build linux

package linux

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
)

// The kernel's interface to packet programs (include/uapi/linux/bpf.h).
const (
	bpfProgFromID = 13 // BPF_PROG_GET_FD_BY_ID
	bpfInfo       = 15 // BPF_OBJ_GET_INFO_BY_FD
	bpfQuery      = 16 // BPF_PROG_QUERY
	bpfNameOffset = 64 // of the name in struct bpf_prog_info
	bpfNameSize   = 16
)

// groupHooks is where a program of a control group may stop its packets or
// connections (enum bpf_attach_type).
var groupHooks = []struct {
	kind uint32
	name string
}{
	{0, "what comes in"}, {1, "what goes out"}, {2, "new sockets"}, {10, "connects"}, {11, "connects over IPv6"},
	{14, "datagrams"}, {15, "datagrams over IPv6"}, {19, "datagrams received"}, {20, "datagrams received over IPv6"},
}

// linkHooks is where a program of a link may (from Linux 6.6 on, beside the
// older traffic control).
var linkHooks = []uint32{46, 47}

// mostGroups bounds the control groups that are looked at.
const mostGroups = 4000

// groupPrograms is the packet programs of control groups. Where there are none
// of the second version, nothing can be attached.
func groupPrograms() ([]fact.GroupProgram, error) {
	root, err := groupRoot()
	if root == "" || err != nil {
		return nil, err
	}
	var found []fact.GroupProgram
	seen := 0
	err = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil // it ended meanwhile
		case err != nil:
			return err
		case !d.IsDir():
			return nil
		case seen == mostGroups:
			return fmt.Errorf("more than %d control groups", mostGroups)
		}
		seen++
		fd, err := unix.Open(path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		for _, hook := range groupHooks {
			ids, err := attached(uint32(fd), hook.kind)
			if errors.Is(err, unix.EINVAL) {
				continue // this kernel has no such hook
			}
			if err != nil {
				return err
			}
			for _, id := range ids {
				group := "/" + strings.TrimPrefix(strings.TrimPrefix(path, root), "/")
				found = append(found, fact.GroupProgram{Group: group, Hook: hook.name, Name: programNamed(id)})
			}
		}
		return nil
	})
	return found, err
}

// groupRoot is where control groups of the second version are mounted; "" for
// nowhere (cgroups(7)).
func groupRoot() (string, error) {
	mounts, err := os.ReadFile("/proc/self/mounts")
	if err != nil {
		return "", err
	}
	for line := range strings.Lines(string(mounts)) {
		if f := strings.Fields(line); len(f) > 2 && f[2] == "cgroup2" {
			return f[1], nil
		}
	}
	return "", nil
}

// linkPrograms reports whether the newer hooks of a link have programs.
func linkPrograms(index int) bool {
	return slices.ContainsFunc(linkHooks, func(kind uint32) bool {
		ids, err := attached(uint32(index), kind)
		return err == nil && len(ids) > 0
	})
}

// attached is the programs that are attached to a target, a control group's
// descriptor or a link's index, at one hook.
func attached(target, kind uint32) ([]uint32, error) {
	ids := make([]uint32, 64)
	query := struct {
		target, kind, flags, given uint32
		ids                        uint64
		count                      uint32
		pad                        [92]byte // of the kernel's own union
	}{target: target, kind: kind, ids: uint64(uintptr(unsafe.Pointer(&ids[0]))), count: uint32(len(ids))}
	_, _, errno := unix.Syscall(unix.SYS_BPF, bpfQuery, uintptr(unsafe.Pointer(&query)), unsafe.Sizeof(query))
	if errno != 0 {
		return nil, errno
	}
	return ids[:min(query.count, uint32(len(ids)))], nil
}

// programNamed is the name that a program was loaded with; "" if it has none
// or may not be seen.
func programNamed(id uint32) string {
	get := struct {
		id  uint32
		pad [124]byte
	}{id: id}
	fd, _, errno := unix.Syscall(unix.SYS_BPF, bpfProgFromID, uintptr(unsafe.Pointer(&get)), unsafe.Sizeof(get))
	if errno != 0 {
		return ""
	}
	defer unix.Close(int(fd))
	info := make([]byte, 128)
	ask := struct {
		fd, size uint32
		info     uint64
		pad      [112]byte
	}{fd: uint32(fd), size: uint32(len(info)), info: uint64(uintptr(unsafe.Pointer(&info[0])))}
	if _, _, errno := unix.Syscall(unix.SYS_BPF, bpfInfo, uintptr(unsafe.Pointer(&ask)),
		unsafe.Sizeof(ask)); errno != 0 {
		return ""
	}
	name, _, _ := bytes.Cut(info[bpfNameOffset:bpfNameOffset+bpfNameSize], []byte{0})
	return string(name)
}
