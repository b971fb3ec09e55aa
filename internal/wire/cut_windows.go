package wire

import "golang.org/x/sys/windows"

// cut is how the system says that a connection was reset. What the standard
// library calls ECONNRESET here is a number of its own.
var cut = []error{windows.WSAECONNRESET, windows.WSAECONNABORTED, windows.WSAENETRESET, windows.WSAESHUTDOWN}

// late is how it says that nothing came in time.
var late = []error{windows.WSAETIMEDOUT}
