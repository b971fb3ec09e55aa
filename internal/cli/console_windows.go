//go:build windows

package cli

import (
	"sync"

	"golang.org/x/sys/windows"
)

// consoles is the modes of consoles as they were found.
var consoles sync.Map // of uintptr and uint32

// escapes switches on that a console carries out escape sequences, and reports whether it
// does: older ones print them.
func escapes(fd uintptr) bool {
	var mode uint32
	if windows.GetConsoleMode(windows.Handle(fd), &mode) != nil {
		return false
	}
	if mode&windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING != 0 {
		return true
	}
	if windows.SetConsoleMode(windows.Handle(fd), mode|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) != nil {
		return false
	}
	consoles.LoadOrStore(fd, mode)
	return true
}

// giveBack leaves the consoles as they were found, for whatever runs there next.
func giveBack() {
	consoles.Range(func(fd, mode any) bool {
		return windows.SetConsoleMode(windows.Handle(fd.(uintptr)), mode.(uint32)) == nil
	})
}
