package host

import "uakari/internal/look/host/linux"

// Inside runs this program anew within a container or a namespace.
var Inside = linux.Inside
