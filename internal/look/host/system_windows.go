package host

import "uakari/internal/look/host/windows"

var system = windows.Looks
