//go:build windows

package windows

import (
	"errors"
	"io/fs"
	"strings"

	"golang.org/x/sys/windows/registry"

	"uakari/internal/look/host/common"
)

func init() { common.RegistryValue = registryValue }

var roots = map[string]registry.Key{
	"HKLM": registry.LOCAL_MACHINE, "HKEY_LOCAL_MACHINE": registry.LOCAL_MACHINE,
	"HKCU": registry.CURRENT_USER, "HKEY_CURRENT_USER": registry.CURRENT_USER,
}

// registryValue is one value of the registry as text; fs.ErrNotExist if its key is not
// there, and found false if the key has no such value.
func registryValue(path, name string) (text string, found bool, err error) {
	root, below, _ := strings.Cut(path, `\`)
	key, err := registry.OpenKey(roots[strings.ToUpper(root)], below, registry.QUERY_VALUE)
	if errors.Is(err, registry.ErrNotExist) {
		return "", false, fs.ErrNotExist
	}
	if err != nil {
		return "", false, err
	}
	defer key.Close()
	text, found = valueOf(key, name)
	return text, found, nil
}
