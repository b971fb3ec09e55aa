//go:build linux

package linux

import (
	"bytes"
	"strings"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
)

// identify fills in what this system tells of itself.
func identify(id *fact.Identity) {
	id.Boot = bootTime()
	if text, err := file.Head("/etc/os-release", common.MostSettings); err == nil {
		for line := range strings.Lines(string(text)) {
			if name, ok := strings.CutPrefix(strings.TrimSpace(line), "PRETTY_NAME="); ok {
				id.Name = strings.Trim(name, `"`)
			}
		}
	}
	var u unix.Utsname
	if unix.Uname(&u) == nil {
		id.Kernel = string(bytes.TrimRight(u.Release[:], "\x00"))
	}
	// With no mode set nothing is changed: the call only reads (adjtimex(2)).
	const unsynchronised = 0x40
	var t unix.Timex
	if _, err := unix.Adjtimex(&t); err == nil {
		synchronised := t.Status&unsynchronised == 0
		id.Synchronised = &synchronised
	}
}
