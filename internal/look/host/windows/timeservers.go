//go:build windows

package windows

import (
	"cmp"
	"slices"
	"strings"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"uakari/internal/look/path"
)

func init() { path.SystemTimeServers = func() []string { _, list := timeSettings(); return list } }

// timeService is the service that keeps the time.
const timeService = "W32Time"

// timeFrom is whose time this host follows, by the settings and the state of its service.
func timeFrom() string {
	kind, servers := timeSettings()
	if all, err := services(); err == nil && !slices.ContainsFunc(all, func(s service) bool {
		return strings.EqualFold(s.name, timeService) && s.state == windows.SERVICE_RUNNING
	}) {
		return "nobody: its time service does not run"
	}
	switch strings.ToUpper(kind) {
	case "":
		return ""
	case "NT5DS":
		return "the domain"
	case "NOSYNC":
		return "nobody"
	}
	return "NTP from " + strings.Join(servers, ", ")
}

// timeSettings is how the system's own time service is set, and the servers that it follows,
// if it follows any by name: a member of a domain follows that.
func timeSettings() (kind string, list []string) {
	for _, path := range []string{
		`SOFTWARE\Policies\Microsoft\W32Time\Parameters`, `SYSTEM\CurrentControlSet\Services\W32Time\Parameters`,
	} {
		key, err := registry.OpenKey(registry.LOCAL_MACHINE, path, registry.QUERY_VALUE)
		if err != nil {
			continue
		}
		kind, _, _ = key.GetStringValue("Type") // none: this place says nothing
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
		return kind, list // a policy goes before
	}
	return "", nil
}

// otherNames is the names beside its own that a host answers to: with its domain, and those
// that its file service was given.
func otherNames(own string) (names []string) {
	if key, err := registry.OpenKey(registry.LOCAL_MACHINE, `SYSTEM\CurrentControlSet\Services\Tcpip\Parameters`,
		registry.QUERY_VALUE); err == nil {
		defer key.Close()
		now, _, _ := key.GetStringValue("Domain") // none: it is in none
		kept, _, _ := key.GetStringValue("NV Domain")
		if domain := cmp.Or(now, kept); domain != "" {
			names = append(names, strings.ToLower(own+"."+domain))
		}
	}
	if key, err := registry.OpenKey(registry.LOCAL_MACHINE,
		`SYSTEM\CurrentControlSet\Services\LanmanServer\Parameters`, registry.QUERY_VALUE); err == nil {
		defer key.Close()
		if more, ok := valueOf(key, "OptionalNames"); ok {
			names = append(names, strings.Fields(more)...)
		}
	}
	return names
}
