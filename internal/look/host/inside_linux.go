package host

import "uakari/internal/look/host/linux"

// Inside runs this program again within a container or a namespace.
var Inside = linux.Inside

// Settle makes this process one that executes nothing of the place that it is in.
var Settle = linux.Settle
