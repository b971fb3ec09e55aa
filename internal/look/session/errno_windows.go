package session

import (
	"syscall"

	"golang.org/x/sys/windows"
)

// errnos is the system's own errors by the names that all systems share.
var errnos = map[syscall.Errno]string{
	windows.WSAEACCES: "EPERM", windows.WSAEADDRNOTAVAIL: "EADDRNOTAVAIL", windows.WSAENETUNREACH: "ENETUNREACH",
	windows.WSAEHOSTUNREACH: "EHOSTUNREACH",
	windows.WSAENETDOWN:     "ENETDOWN", windows.WSAEADDRINUSE: "EADDRNOTAVAIL", windows.WSAENOBUFS: "EADDRNOTAVAIL",
	windows.WSAEHOSTDOWN: "EHOSTUNREACH",
}

func errnoName(e syscall.Errno) string {
	if name, ok := errnos[e]; ok {
		return name
	}
	return e.Error()
}

// timedOut is how the system says that nobody answered.
const timedOut = windows.WSAETIMEDOUT
