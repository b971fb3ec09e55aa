package session

import "golang.org/x/sys/windows"

const errRefused = windows.WSAECONNREFUSED
