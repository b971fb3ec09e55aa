//go:build linux

package linux

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"unsafe"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
)

// TestGroupPrograms attaches a real program to a control group and finds it.
func TestGroupPrograms(t *testing.T) {
	root, err := groupRoot()
	if err != nil {
		t.Fatal(err)
	}
	if os.Getuid() != 0 || root == "" {
		t.Skip("needs root, and control groups of the second version")
	}
	group := filepath.Join(root, "uakari-test.service")
	if err := os.Mkdir(group, 0o755); err != nil {
		t.Skip("no control group can be made here: ", err)
	}
	defer os.Remove(group)
	// "Let it pass": r0 = 1; exit.
	code := []uint64{0xb7 | 1<<32, 0x95}
	license := []byte("GPL\x00")
	load := struct {
		kind, count   uint32
		code, license uint64
		level, size   uint32
		log           uint64
		version, flag uint32
		name          [16]byte
		pad           [64]byte
	}{kind: 8, count: uint32(len(code)), code: uint64(uintptr(unsafe.Pointer(&code[0]))),
		license: uint64(uintptr(unsafe.Pointer(&license[0])))}
	copy(load.name[:], "tide_gate")
	program, _, errno := unix.Syscall(unix.SYS_BPF, 5, uintptr(unsafe.Pointer(&load)), unsafe.Sizeof(load))
	if errno != 0 {
		t.Skip("this kernel takes no programs: ", errno)
	}
	defer unix.Close(int(program))
	dir, err := os.Open(group)
	if err != nil {
		t.Fatal(err)
	}
	defer dir.Close()
	attach := struct {
		target, program, kind, flags uint32
		pad                          [112]byte
	}{target: uint32(dir.Fd()), program: uint32(program), kind: 0}
	if _, _, errno := unix.Syscall(unix.SYS_BPF, 8, uintptr(unsafe.Pointer(&attach)),
		unsafe.Sizeof(attach)); errno != 0 {
		t.Fatal(errno)
	}
	found, err := groupPrograms()
	want := fact.GroupProgram{Group: "/uakari-test.service", Hook: "what comes in", Name: "tide_gate"}
	if err != nil || !slices.Contains(found, want) {
		t.Errorf("%v: %+v, want %+v", err, found, want)
	}
}
