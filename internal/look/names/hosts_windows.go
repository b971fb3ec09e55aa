package names

import (
	"os"
	"path/filepath"
)

var systemHosts = filepath.Join(os.Getenv("SystemRoot"), "System32", "drivers", "etc", "hosts")
