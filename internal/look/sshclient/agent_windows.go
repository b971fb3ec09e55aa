package sshclient

import (
	"context"
	"errors"
	"os"
	"strings"

	"golang.org/x/sys/windows"
)

// agentPipe is where the system's own agent listens.
const agentPipe = `\\.\pipe\openssh-ssh-agent`

// dialAgent connects to the system's agent, or to the pipe that the environment names.
// It is opened for overlapped work, so that a deadline ends what waits on it.
func dialAgent(context.Context) (agentConn, error) {
	name := agentPipe
	if named := os.Getenv("SSH_AUTH_SOCK"); strings.HasPrefix(named, `\\.\pipe\`) {
		name = named
	}
	path, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return nil, err
	}
	handle, err := windows.CreateFile(
		path, windows.GENERIC_READ|windows.GENERIC_WRITE, 0, nil, windows.OPEN_EXISTING, windows.FILE_FLAG_OVERLAPPED,
		0,
	)
	if errors.Is(err, windows.ERROR_FILE_NOT_FOUND) {
		return nil, ErrNoAgent
	}
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(handle), name), nil
}
