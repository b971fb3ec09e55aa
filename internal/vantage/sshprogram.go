package vantage

import (
	"bytes"
	"debug/elf"
	"fmt"
	"os"
	"strings"
)

// Own is this program itself, to be lent.
const Own = "own"

// machines is what uname says on the architectures that this program is built
// for.
var machines = map[elf.Machine]string{elf.EM_X86_64: "x86_64", elf.EM_AARCH64: "aarch64"}

// toLend is the program to lend, and the machine that it is for.
func toLend(which string) (binary []byte, machine string, err error) {
	path := which
	if which == Own {
		if path, err = os.Executable(); err != nil {
			return nil, "", err
		}
	}
	if binary, err = os.ReadFile(path); err != nil {
		return nil, "", err
	}
	made, err := elf.NewFile(bytes.NewReader(binary))
	if err == nil && (made.Type == elf.ET_EXEC || made.Type == elf.ET_DYN) {
		machine = machines[made.Machine]
	}
	if machine == "" {
		return nil, "",
			fmt.Errorf("%s is no Linux program of x86_64 or aarch64; name another build of uakari: --lend=FILE", path)
	}
	return binary, machine, nil
}

// command is what to run over there, and the program to lend, if any.
//
// A lent program goes into a folder of its own that only the account can
// read. The shell removes it when it ends, however it ends, and the program
// removes itself as soon as it runs.
func (s *SSH) command() (string, []byte, error) {
	run := "uakari look" + s.inside()
	if s.login.Lend == "" {
		if s.login.AsRoot {
			run = "sudo -n " + run
		}
		return run, nil, nil
	}
	binary, machine, err := toLend(s.login.Lend)
	if err != nil {
		return "", nil, err
	}
	run = `"$d/uakari" look lent` + s.inside()
	if s.login.AsRoot {
		run = "sudo -n " + run
	}
	script := fmt.Sprintf(
		`umask 077; case "$(uname -sm)" in "Linux %[1]s") ;; *) echo "there it is $(uname -sm), and this program is `+
			`for Linux %[1]s" >&2; exit 3;; esac; `+
			`d=$(mktemp -d) || exit 3; trap 'rm -rf "$d"' EXIT; trap 'exit 3' HUP INT TERM PIPE; head -c %[2]d >"$d/uakari" && chmod 700 "$d/uakari" && %[3]s`,
		machine,
		len(binary),
		run,
	)
	return "sh -c " + quote(script), binary, nil
}

// inside is the words that make the program there look from a container.
func (s *SSH) inside() string {
	if s.login.In == "" {
		return ""
	}
	return " --in " + quote(s.login.In)
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
