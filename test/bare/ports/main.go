//go:build linux

// The bare program for listeners: one dump of the listening sockets, and one
// pass over the open files of every process.
package main

import (
	"encoding/binary"
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

func main() {
	sockets := 0
	for _, family := range []byte{unix.AF_INET, unix.AF_INET6} {
		n, err := dump(family)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		sockets += n
	}
	fmt.Println(sockets, links())
}

// dump asks for the listening TCP sockets of a family and counts them.
func dump(family byte) (int, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return 0, err
	}
	defer unix.Close(fd)
	request := make([]byte, 72)
	binary.NativeEndian.PutUint32(request, 72)
	binary.NativeEndian.PutUint16(request[4:], 20) // SOCK_DIAG_BY_FAMILY
	binary.NativeEndian.PutUint16(request[6:], unix.NLM_F_REQUEST|unix.NLM_F_DUMP)
	request[16], request[17] = family, unix.IPPROTO_TCP
	binary.NativeEndian.PutUint32(request[20:], 1<<10) // TCP_LISTEN
	if err := unix.Sendto(fd, request, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return 0, err
	}
	count := 0
	for buffer := make([]byte, 64<<10); ; {
		n, _, err := unix.Recvfrom(fd, buffer, 0)
		if err != nil {
			return count, err
		}
		for at := 0; at+16 <= n; {
			size := int(binary.NativeEndian.Uint32(buffer[at:]))
			if binary.NativeEndian.Uint16(buffer[at+4:]) == unix.NLMSG_DONE {
				return count, nil
			}
			count++
			at += (size + 3) &^ 3
		}
	}
}

// links counts the sockets among the open files of all processes.
func links() int {
	count := 0
	pids, err := os.ReadDir("/proc")
	if err != nil {
		return 0
	}
	for _, pid := range pids {
		if pid.Name()[0] < '0' || pid.Name()[0] > '9' {
			continue
		}
		folder := "/proc/" + pid.Name() + "/fd"
		dir, err := os.Open(folder)
		if err != nil {
			continue
		}
		names, err := dir.Readdirnames(-1)
		dir.Close()
		if err != nil {
			continue
		}
		for _, name := range names {
			if to, err := os.Readlink(folder + "/" + name); err == nil && strings.HasPrefix(to, "socket:") {
				count++
			}
		}
	}
	return count
}
