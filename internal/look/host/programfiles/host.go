// Package programfiles reads the settings of server programs as they run, on any system:
// what of them bears on addresses, certificates and the backends behind. What differs
// between systems is in a Host; what is true of a program is in package program. It cannot
// see what a program was told after it had started, but by its files.
package programfiles

import (
	"context"
	"os"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/program"
)

// Host is how the processes of programs, and what belongs to their files, are found on a
// system.
type Host struct {
	// On is the programs that hold a port, each with a process: of TCP or, where none does,
	// of UDP.
	On func(ctx context.Context, env look.Env, port uint16) map[string]int
	// Process is the oldest process of a program; 0 for none.
	Process func(p program.Program) int
	// Started is how a process was started, and then those of the same program that made
	// it, one after the other; of process 0 how the system would start it, where it says.
	Started func(p program.Program, pid int) []Started
	// Usual is the files where a program keeps its settings that is not told otherwise.
	Usual func(p program.Program, pid int) []string
	// Own is the settings files of a program that nobody knows, by the process that holds a
	// port; nil where the system does not tell.
	Own func(ctx context.Context, pid int) []string
	// Account is who a process runs as, and User its name; "" where that is not to be told.
	Account func(pid int) file.Account
	User    func(pid int) string
	// Apart is that a process sees other files than this host's under the same names.
	Apart func(pid int) bool
	// Stopped says why a user may not read a file; "" where it may.
	Stopped func(user, path string) string
	// TooOpen says why PostgreSQL refuses a key that others may read.
	TooOpen func(path string, info os.FileInfo) string
	// Changed is when a file's content or place changed.
	Changed func(info os.FileInfo) time.Time
	// Opened says of a backend on a local socket whether somebody listens there.
	Opened func(up fact.Upstream) fact.Upstream
	// Asked adds the lists that are no files of settings: of wrappers, and of databases.
	Asked func(ctx context.Context, env look.Env, order fact.Order, held map[string]int, a *fact.Access,
		emit look.Emit)
}

// Started is how a process was started.
type Started struct {
	Args   []string // its own name first
	Folder string   // in which relative paths begin
}
