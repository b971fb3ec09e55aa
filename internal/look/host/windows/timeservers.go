//go:build windows

package windows

import (
	"strings"

	"golang.org/x/sys/windows/registry"

	"uakari/internal/look/path"
)

func init() { path.SystemTimeServers = timeServers }

// timeServers is the servers that the system's own time service is set to follow, if it
// follows any by name: a member of a domain follows that.
func timeServers() (list []string) {
	for _, path := range []string{
		`SOFTWARE\Policies\Microsoft\W32Time\Parameters`, `SYSTEM\CurrentControlSet\Services\W32Time\Parameters`,
	} {
		key, err := registry.OpenKey(registry.LOCAL_MACHINE, path, registry.QUERY_VALUE)
		if err != nil {
			continue
		}
		kind, _, _ := key.GetStringValue("Type") // none: this place says nothing
		names, _, _ := key.GetStringValue("NtpServer")
		key.Close()
		if kind == "" {
			continue
		}
		if strings.EqualFold(kind, "NTP") || strings.EqualFold(kind, "AllSync") {
			for _, each := range strings.Fields(names) {
				name, _, _ := strings.Cut(each, ",") // "time.varzea.example,0x9"
				list = append(list, name)
			}
		}
		return list // a policy goes before
	}
	return list
}
