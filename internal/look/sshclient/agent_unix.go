//go:build !windows

package sshclient

import (
	"context"
	"net"
	"os"
)

// dialAgent connects to the socket that the environment names.
func dialAgent(ctx context.Context) (agentConn, error) {
	socket := os.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return nil, ErrNoAgent
	}
	return new(net.Dialer).DialContext(ctx, "unix", socket)
}
