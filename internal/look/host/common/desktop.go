package common

import (
	"os"
	"path/filepath"
	"strings"

	"uakari/internal/settingsfile"
)

// desktopScript is the proxy script that a desktop of this user is set to, in the file that
// programs of KDE read ("ProxyType=2" is a script at an address).
func desktopScript() string {
	folder, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	text, err := ReadSome(filepath.Join(folder, "kioslaverc"))
	if err != nil {
		return "" // no such desktop
	}
	values, err := settingsfile.Read(string(text), "ini")
	if err != nil {
		return ""
	}
	kind, place := "", ""
	for _, v := range values {
		switch {
		case strings.EqualFold(v.Key, "Proxy Settings.ProxyType"):
			kind = v.Text
		case strings.EqualFold(v.Key, "Proxy Settings.Proxy Config Script"):
			place = v.Text
		}
	}
	if kind != "2" {
		return ""
	}
	return place
}
