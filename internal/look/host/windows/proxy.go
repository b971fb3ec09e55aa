//go:build windows

package windows

import (
	"encoding/binary"
	"errors"
	"strings"

	"golang.org/x/sys/windows/registry"

	"uakari/internal/look/host/common"
)

func init() { common.SystemProxy = systemProxy }

const internetSettings = `Software\Microsoft\Windows\CurrentVersion\Internet Settings`

// systemProxy is the proxy that the system is set to for a scheme: of this user
// (Internet Settings), else of the services of this machine (WinHTTP). A script that
// decides is named.
func systemProxy(scheme string) (p common.ProxyOf, err error) {
	p, err = userProxy(scheme)
	if err == nil && p.Value == "" && p.Script == "" {
		p, err = machineProxy(scheme)
	}
	return p, err
}

func userProxy(scheme string) (p common.ProxyOf, err error) {
	key, err := registry.OpenKey(registry.CURRENT_USER, internetSettings, registry.QUERY_VALUE)
	if errors.Is(err, registry.ErrNotExist) {
		return p, nil
	}
	if err != nil {
		return p, err
	}
	defer key.Close()
	text := func(name string) string {
		value, _, err := key.GetStringValue(name)
		if err != nil {
			return "" // it is not set
		}
		return value
	}
	p.Name, p.Script = "Internet Settings of this user", text("AutoConfigURL")
	if on, _, err := key.GetIntegerValue("ProxyEnable"); err != nil || on == 0 {
		return p, nil
	}
	p.Value, p.Except = common.ProxyFor(text("ProxyServer"), scheme), text("ProxyOverride")
	return p, nil
}

// machineProxy reads what WinHTTP keeps: lengths and texts behind a head of three
// numbers, of which the third says how it is reached (3: by a named proxy).
func machineProxy(scheme string) (p common.ProxyOf, err error) {
	key, err := registry.OpenKey(registry.LOCAL_MACHINE, internetSettings+`\Connections`, registry.QUERY_VALUE)
	if errors.Is(err, registry.ErrNotExist) {
		return p, nil
	}
	if err != nil {
		return p, err
	}
	defer key.Close()
	value, _, err := key.GetBinaryValue("WinHttpSettings")
	if err != nil {
		return p, nil // it is not set
	}
	next := func() string {
		if len(value) < 4 {
			return ""
		}
		n := binary.LittleEndian.Uint32(value)
		value = value[4:]
		if uint64(n) > uint64(len(value)) {
			return ""
		}
		text := string(value[:n])
		value = value[n:]
		return text
	}
	const head, named = 12, 3
	if len(value) < head || binary.LittleEndian.Uint32(value[8:]) != named {
		return p, nil
	}
	value = value[head:]
	p.Name = "WinHTTP of this machine"
	p.Value = common.ProxyFor(next(), scheme)
	p.Except = strings.TrimRight(next(), "\x00")
	return p, nil
}
