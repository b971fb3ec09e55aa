package path

import (
	"encoding/binary"
	"net/netip"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

func init() { systemEcho = icmpSendEcho }

var (
	iphlpapi        = windows.NewLazySystemDLL("iphlpapi.dll")
	icmpCreateFile  = iphlpapi.NewProc("IcmpCreateFile")
	icmp6CreateFile = iphlpapi.NewProc("Icmp6CreateFile")
	icmpCloseHandle = iphlpapi.NewProc("IcmpCloseHandle")
	sendEcho4       = iphlpapi.NewProc("IcmpSendEcho")
	sendEcho6       = iphlpapi.NewProc("Icmp6SendEcho2")
)

// Where ICMP_ECHO_REPLY and ICMPV6_ECHO_REPLY keep what is read of them (ipexport.h),
// for programs of 64 bits: the status, and of IPv4 how many hops were left.
const (
	status4   = 4
	left4     = 24
	status6   = 28
	replySize = 1024
)

// icmpSendEcho asks for one echo by the system's own call, which needs no administrator.
func icmpSendEcho(addr netip.Addr, wait time.Duration) (answered bool, left int, err error) {
	create, send := icmpCreateFile, sendEcho4
	if addr.Is6() {
		create, send = icmp6CreateFile, sendEcho6
	}
	for _, proc := range []*windows.LazyProc{create, send, icmpCloseHandle} {
		if err := proc.Find(); err != nil {
			return false, 0, err
		}
	}
	handle, _, err := create.Call()
	if windows.Handle(handle) == windows.InvalidHandle {
		return false, 0, err
	}
	defer icmpCloseHandle.Call(handle)
	data, reply := []byte("uakari"), make([]byte, replySize)
	var count uintptr
	if addr.Is6() {
		var from, to windows.RawSockaddrInet6
		from.Family, to.Family, to.Addr = windows.AF_INET6, windows.AF_INET6, addr.As16()
		count, _, err = send.Call(
			handle, 0, 0, 0, uintptr(unsafe.Pointer(&from)), uintptr(unsafe.Pointer(&to)),
			uintptr(unsafe.Pointer(&data[0])),
			uintptr(len(data)), 0, uintptr(unsafe.Pointer(&reply[0])), replySize, uintptr(wait.Milliseconds()),
		)
		return count > 0 && binary.LittleEndian.Uint32(reply[status6:]) == 0, 0, nil
	}
	four := addr.As4()
	count, _, err = send.Call(
		handle, uintptr(binary.LittleEndian.Uint32(four[:])), uintptr(unsafe.Pointer(&data[0])), uintptr(len(data)), 0,
		uintptr(unsafe.Pointer(&reply[0])), replySize, uintptr(wait.Milliseconds()),
	)
	if count == 0 || binary.LittleEndian.Uint32(reply[status4:]) != 0 {
		return false, 0, nil // no answer, or one that says why there is none
	}
	return true, int(reply[left4]), nil
}
