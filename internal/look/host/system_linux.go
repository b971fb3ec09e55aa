package host

import "uakari/internal/look/host/linux"

var system = linux.Looks
