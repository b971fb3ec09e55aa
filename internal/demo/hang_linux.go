package demo

import (
	"net/netip"

	"golang.org/x/sys/unix"
)

// hang listens with room for one connection, takes that place itself and
// never accepts: a hung process. The next one to come hears nothing.
func hang(s Stand) error {
	at, err := netip.ParseAddrPort(s.Listen)
	if err != nil {
		return err
	}
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1); err != nil {
		return err
	}
	if err := unix.Bind(fd, &unix.SockaddrInet4{Port: int(at.Port()), Addr: at.Addr().As4()}); err != nil {
		return err
	}
	if err := unix.Listen(fd, 0); err != nil {
		return err
	}
	// The one waiting connection stays open for as long as the process runs.
	guest, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	return unix.Connect(guest, &unix.SockaddrInet4{Port: int(at.Port()), Addr: at.Addr().As4()})
}
