//go:build linux

package linux

import (
	"errors"
	"fmt"
	"io"
	"math/bits"
	"os"
	"runtime"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"uakari/internal/look/file"
)

// rights is what a process may do: what runs in its place beside it may do no more.
type rights struct {
	uid, gid int
	groups   []int
	caps     uint64 // capabilities, a bit each (capabilities(7))
}

// rightsOf is the rights of a process, as far as this one has them too. Those of
// another user namespace are none here.
func rightsOf(pid int) (rights, error) {
	text, err := file.Head(procFile(pid, "status"), 64<<10)
	if err != nil {
		return rights{}, err
	}
	own, err := file.Head("/proc/self/status", 64<<10)
	if err != nil {
		return rights{}, err
	}
	theirs, ours := statusOf(string(text)), statusOf(string(own))
	r := rights{uid: -1, gid: -1, groups: []int{}}
	for _, each := range []struct {
		name string
		to   *int
	}{{"Uid", &r.uid}, {"Gid", &r.gid}} {
		words := strings.Fields(theirs[each.name]) // real, effective, saved, of files
		if len(words) < 2 {
			return rights{}, fmt.Errorf("%s: no %s", procFile(pid, "status"), each.name)
		}
		if *each.to, err = strconv.Atoi(words[1]); err != nil {
			return rights{}, err
		}
	}
	for _, word := range strings.Fields(theirs["Groups"]) {
		n, err := strconv.Atoi(word)
		if err != nil {
			return rights{}, err
		}
		r.groups = append(r.groups, n)
	}
	theirUsers, err := os.Readlink(procFile(pid, "ns/user"))
	ourUsers, err2 := os.Readlink("/proc/self/ns/user")
	if err := errors.Join(err, err2); err != nil {
		return rights{}, err
	}
	if theirUsers == ourUsers {
		may, err := strconv.ParseUint(theirs["CapEff"], 16, 64)
		have, err2 := strconv.ParseUint(ours["CapEff"], 16, 64)
		if err := errors.Join(err, err2); err != nil {
			return rights{}, err
		}
		r.caps = may & have
	}
	return r, nil
}

// statusOf is the fields of a status file (proc_pid_status(5)).
func statusOf(text string) map[string]string {
	fields := map[string]string{}
	for line := range strings.Lines(text) {
		name, value, _ := strings.Cut(line, ":")
		fields[name] = strings.TrimSpace(value)
	}
	return fields
}

// take gives the calling thread, which must be locked and ends with its work, these
// rights for good: neither it nor what it starts gains any again. The kernel's own calls
// are used, since those of the library change all threads.
func (r rights) take() error {
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("no new privileges: %w", err)
	}
	for c := uintptr(0); c < 64; c++ {
		if r.caps&(1<<c) != 0 {
			continue
		}
		if err := unix.Prctl(unix.PR_CAPBSET_DROP, c, 0, 0, 0); errors.Is(err, unix.EINVAL) {
			break // the kernel knows no more
		} else if err != nil {
			return fmt.Errorf("capability %d: %w", c, err)
		}
	}
	if err := unix.Prctl(unix.PR_SET_KEEPCAPS, 1, 0, 0, 0); err != nil {
		return err
	}
	groups := make([]uint32, len(r.groups)+1)
	for i, g := range r.groups {
		groups[i] = uint32(g)
	}
	if _, _, errno := unix.RawSyscall(unix.SYS_SETGROUPS, uintptr(len(r.groups)),
		uintptr(unsafe.Pointer(&groups[0])), 0); errno != 0 {
		return fmt.Errorf("its groups: %w", errno)
	}
	gid, uid := uintptr(r.gid), uintptr(r.uid)
	if _, _, errno := unix.RawSyscall(unix.SYS_SETRESGID, gid, gid, gid); errno != 0 {
		return fmt.Errorf("its group: %w", errno)
	}
	if _, _, errno := unix.RawSyscall(unix.SYS_SETRESUID, uid, uid, uid); errno != 0 {
		return fmt.Errorf("its user: %w", errno)
	}
	head := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	low, high := uint32(r.caps), uint32(r.caps>>32)
	data := [2]unix.CapUserData{{Effective: low, Permitted: low, Inheritable: low},
		{Effective: high, Permitted: high, Inheritable: high}}
	if err := unix.Capset(&head, &data[0]); err != nil {
		return fmt.Errorf("its capabilities: %w", err)
	}
	for left := r.caps; left != 0; left &= left - 1 {
		c := uintptr(bits.TrailingZeros64(left))
		if err := unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_RAISE, c, 0, 0); err != nil {
			return fmt.Errorf("capability %d: %w", c, err)
		}
	}
	return nil
}

// denied is what nothing that looks has to do: whoever took it over could leave the
// place by it, or change the host.
var denied = []uint32{
	unix.SYS_MOUNT, unix.SYS_UMOUNT2, unix.SYS_PIVOT_ROOT, unix.SYS_CHROOT, unix.SYS_SETNS, unix.SYS_UNSHARE,
	unix.SYS_MKNODAT, unix.SYS_PTRACE, unix.SYS_PROCESS_VM_READV, unix.SYS_PROCESS_VM_WRITEV, unix.SYS_BPF,
	unix.SYS_INIT_MODULE, unix.SYS_FINIT_MODULE, unix.SYS_DELETE_MODULE, unix.SYS_KEXEC_LOAD, unix.SYS_REBOOT,
	unix.SYS_SWAPON, unix.SYS_OPEN_BY_HANDLE_AT, unix.SYS_OPEN_TREE, unix.SYS_MOVE_MOUNT, unix.SYS_FSOPEN,
	unix.SYS_FSMOUNT, unix.SYS_MOUNT_SETATTR, unix.SYS_KEYCTL, unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY,
	unix.SYS_PERF_EVENT_OPEN, unix.SYS_USERFAULTFD,
}

// executing is the calls by which a program becomes another one.
var executing = []uint32{unix.SYS_EXECVE, unix.SYS_EXECVEAT}

// Of the data that a filter of calls sees (seccomp(2)): the call's number, and by
// which convention it is made.
const (
	seccompNumber     = 0
	seccompConvention = 4
)

// conventions is the calls' own convention, by processor. Numbers of another one mean
// other calls.
var conventions = map[string]uint32{"amd64": unix.AUDIT_ARCH_X86_64, "arm64": unix.AUDIT_ARCH_AARCH64}

// anotherABI is the bit of calls of amd64 with pointers of 32 bits, which pass by the
// same convention.
const anotherABI = 0x40000000

// forbid makes calls fail with EPERM from now on, for the calling thread and all that it
// starts or, if all is set, for every thread of this process.
func forbid(calls []uint32, all bool) error {
	refuse := bpf.RetConstant{Val: unix.SECCOMP_RET_ERRNO | uint32(unix.EPERM)}
	var program []bpf.Instruction
	if own, known := conventions[runtime.GOARCH]; known {
		program = append(program, bpf.LoadAbsolute{Off: seccompConvention, Size: 4},
			bpf.JumpIf{Cond: bpf.JumpEqual, Val: own, SkipTrue: 1}, refuse)
	}
	program = append(program, bpf.LoadAbsolute{Off: seccompNumber, Size: 4},
		bpf.JumpIf{Cond: bpf.JumpLessThan, Val: anotherABI, SkipTrue: 1}, refuse)
	for _, call := range calls {
		program = append(program, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: call, SkipTrue: 1},
			refuse)
	}
	raw, err := bpf.Assemble(append(program, bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW}))
	if err != nil {
		return err
	}
	filter := make([]unix.SockFilter, len(raw))
	for i, r := range raw {
		filter[i] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
	}
	fprog := unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]}
	flags := uintptr(0)
	if all {
		flags = unix.SECCOMP_FILTER_FLAG_TSYNC
	}
	if _, _, errno := unix.RawSyscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, flags,
		uintptr(unsafe.Pointer(&fprog))); errno != 0 {
		return fmt.Errorf("the filter of system calls: %w", errno)
	}
	return nil
}

// Settle makes every attempt of this process to execute a program fail, opens every file
// beneath the root of the place, and leaves the folder that it was started in.
func Settle() error {
	if err := unix.Chdir("/"); err != nil {
		return err
	}
	if err := file.Confine(); err != nil {
		return err
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	return forbid(executing, true)
}

// Mode of the program in its own small file system.
const programMode = 0o555

// sealed is a file system in memory that is mounted nowhere, and holds this program
// alone, read-only for ever. Whatever namespaces a thread is in, a program that it
// starts from there is this one: no path of a place is followed to it, and nobody in
// the place can write to it.
func sealed() (*os.File, error) {
	const needs = "the program cannot be kept from the place that it looks from; Linux 5.12 or later can: %w"
	fs, err := unix.Fsopen("tmpfs", unix.FSOPEN_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf(needs, err)
	}
	defer unix.Close(fs)
	if _, _, errno := unix.Syscall6(unix.SYS_FSCONFIG, uintptr(fs), unix.FSCONFIG_CMD_CREATE, 0, 0, 0, 0); errno != 0 {
		return nil, fmt.Errorf(needs, errno)
	}
	mount, err := unix.Fsmount(fs, unix.FSMOUNT_CLOEXEC, unix.MOUNT_ATTR_NOSUID|unix.MOUNT_ATTR_NODEV)
	if err != nil {
		return nil, fmt.Errorf(needs, err)
	}
	dir := os.NewFile(uintptr(mount), "the program")
	if err := fill(mount); err != nil {
		dir.Close()
		return nil, err
	}
	attr := unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY}
	if err := unix.MountSetattr(mount, "", unix.AT_EMPTY_PATH, &attr); err != nil {
		dir.Close()
		return nil, fmt.Errorf(needs, err)
	}
	return dir, nil
}

// sealedName is what the program is called there.
const sealedName = "uakari"

// fill copies this program into a folder.
func fill(dir int) error {
	self, err := os.Open("/proc/self/exe")
	if err != nil {
		return err
	}
	defer self.Close()
	fd, err := unix.Openat(dir, sealedName, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL|unix.O_CLOEXEC, programMode)
	if err != nil {
		return err
	}
	copied := os.NewFile(uintptr(fd), sealedName)
	_, err = io.Copy(copied, self)
	err = errors.Join(err, unix.Fchmod(fd, programMode), copied.Close())
	if err != nil {
		return err
	}
	return unix.Fchmodat(dir, ".", programMode, 0)
}
