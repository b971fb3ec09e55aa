//go:build windows

package windows

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

// kernelPID is the process of the system itself.
const kernelPID = 4

// process is one that runs.
type process struct {
	pid, parent uint32
	name, path  string // "sqlservr"; the whole path, "" if it may not be seen
	since       time.Time
}

// processes is every process, by its number.
func processes() (map[uint32]process, error) {
	snapshot, err := windows.CreateToolhelp32Snapshot(windows.TH32CS_SNAPPROCESS, 0)
	if err != nil {
		return nil, err
	}
	defer windows.CloseHandle(snapshot)
	list := map[uint32]process{}
	entry := windows.ProcessEntry32{Size: uint32(unsafe.Sizeof(windows.ProcessEntry32{}))}
	for err = windows.Process32First(snapshot, &entry); err == nil; err = windows.Process32Next(snapshot, &entry) {
		file := windows.UTF16ToString(entry.ExeFile[:])
		p := process{pid: entry.ProcessID, parent: entry.ParentProcessID, name: programName(file)}
		p.path, p.since = imageOf(p.pid)
		list[p.pid] = p
	}
	if !errors.Is(err, windows.ERROR_NO_MORE_FILES) {
		return list, err
	}
	return list, nil
}

// programName is how a program is called: without its folder and its ending.
func programName(path string) string {
	name := filepath.Base(strings.ReplaceAll(path, `\`, "/"))
	if len(name) > 4 && strings.EqualFold(name[len(name)-4:], ".exe") {
		name = name[:len(name)-4]
	}
	return name
}

// imageOf is the path of a process's program, and since when it runs.
func imageOf(pid uint32) (path string, since time.Time) {
	handle, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, pid)
	if err != nil {
		return "", time.Time{}
	}
	defer windows.CloseHandle(handle)
	buffer := make([]uint16, windows.MAX_LONG_PATH)
	size := uint32(len(buffer))
	if windows.QueryFullProcessImageName(handle, 0, &buffer[0], &size) == nil {
		path = windows.UTF16ToString(buffer[:size])
	}
	var created, exited, kernel, user windows.Filetime
	if windows.GetProcessTimes(handle, &created, &exited, &kernel, &user) == nil {
		since = time.Unix(0, created.Nanoseconds()).UTC()
	}
	return path, since
}

// isOf reports whether it may be a process of the program at a path: one whose own path
// may not be seen is taken by its name, and folders have more than one name.
func (p process) isOf(path string) bool {
	if !strings.EqualFold(p.name, programName(path)) {
		return false
	}
	if p.path == "" || strings.EqualFold(p.path, path) {
		return true
	}
	own, err := os.Stat(p.path)
	other, err2 := os.Stat(path)
	return err == nil && err2 == nil && os.SameFile(own, other)
}

// user is the account that a process runs as; "" if it may not be seen.
func (p process) user() string {
	handle, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, p.pid)
	if err != nil {
		return ""
	}
	defer windows.CloseHandle(handle)
	var token windows.Token
	if windows.OpenProcessToken(handle, windows.TOKEN_QUERY, &token) != nil {
		return ""
	}
	defer token.Close()
	owner, err := token.GetTokenUser()
	if err != nil {
		return ""
	}
	name, domain, _, err := owner.User.Sid.LookupAccount("")
	if err != nil {
		return owner.User.Sid.String()
	}
	return domain + `\` + name
}
