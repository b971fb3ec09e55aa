//go:build windows

package windows

import (
	"context"
	"encoding/xml"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
)

// versionKey is where the system says which it is.
const versionKey = `SOFTWARE\Microsoft\Windows NT\CurrentVersion`

// identify fills in what this system tells of itself.
func identify(id *fact.Identity) {
	id.Boot = time.Now().Add(-windows.DurationSinceBoot()).UTC().Truncate(time.Second)
	id.Also, id.TimeFrom, id.Policies = otherNames(id.Host), timeFrom(), policies()
	key, err := registry.OpenKey(registry.LOCAL_MACHINE, versionKey, registry.QUERY_VALUE)
	if err != nil {
		return
	}
	defer key.Close()
	word := func(name string) string {
		text, _, _ := key.GetStringValue(name) // an older system lacks some
		return text
	}
	id.Name = strings.TrimSpace(word("ProductName") + " " + word("DisplayVersion"))
	id.Kernel = word("CurrentBuild")
	if part, _, err := key.GetIntegerValue("UBR"); err == nil {
		id.Kernel += fmt.Sprintf(".%d", part)
	}
}

// Resources leaves how much room the system's disk and that of the endpoint's
// programs have.
func Resources(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	r := fact.Resources{Disks: []fact.Disk{}}
	folders := []string{filepath.VolumeName(os.Getenv("SystemRoot")) + `\`}
	if all, err := services(); err == nil {
		for _, s := range all {
			if len(s.command) == 0 {
				continue
			}
			volume := filepath.VolumeName(s.command[0])
			if volume != "" && !strings.EqualFold(volume+`\`, folders[0]) && len(folders) < 8 {
				folders = append(folders, volume+`\`)
			}
		}
	}
	for _, folder := range folders {
		path, err := windows.UTF16PtrFromString(folder)
		if err != nil {
			continue
		}
		d := fact.Disk{Path: folder, FreeInodes: 1, Inodes: 1} // which this system does not count
		if err := windows.GetDiskFreeSpaceEx(path, &d.Free, &d.Size, nil); err != nil {
			emit(env.Failed(order, folder, "could not look how much room it has", err, ""))
			continue
		}
		r.Disks = append(r.Disks, d)
	}
	f := env.Seen(order, "resources", fmt.Sprintf("%d disks", len(r.Disks)))
	f.Resources = &r
	emit(f)
}

// Barriers leaves what can stop packets beside the firewall: tunnels, and what
// of it cannot be seen.
func Barriers(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	links, err := net.Interfaces()
	if err != nil {
		emit(env.Failed(order, "barriers", "could not list the links", err, ""))
		return
	}
	b := fact.Barriers{Unread: "filters that other programs set up beside the firewall are not looked at"}
	for _, link := range links {
		if link.Flags&net.FlagPointToPoint != 0 {
			b.Links = append(b.Links, link.Name+" (point to point)")
		}
	}
	f := env.Seen(order, "barriers", fmt.Sprintf("%d tunnels", len(b.Links)))
	f.Barriers = &b
	emit(f)
}

// urlKey is where programs reserve addresses of the web that the kernel listens
// for on their behalf.
const urlKey = `SYSTEM\CurrentControlSet\Services\HTTP\Parameters\UrlAclInfo`

// sitesOf says whose a port is that the system itself holds: the sites of the
// web server whose bindings have it, or who reserved addresses there.
func sitesOf(port uint16, held []fact.Listener) string {
	kernels := false
	for _, l := range held {
		kernels = kernels || l.Port == port && l.PID == kernelPID
	}
	if !kernels {
		return ""
	}
	var names []string
	path := filepath.Join(os.Getenv("SystemRoot"), "System32", "inetsrv", "config", "applicationHost.config")
	if text, err := file.Head(path, common.MostSettings); err == nil {
		names = siteBindings(text, port)
	}
	if key, err := registry.OpenKey(registry.LOCAL_MACHINE, urlKey, registry.QUERY_VALUE); err == nil {
		defer key.Close()
		urls, _ := key.ReadValueNames(0)
		for _, url := range urls {
			if strings.Contains(url, fmt.Sprintf(":%d/", port)) {
				names = append(names, url)
			}
		}
	}
	return strings.Join(names, ", ")
}

// siteBindings is the names of the sites that are bound to a port.
func siteBindings(text []byte, port uint16) []string {
	var config struct {
		Sites []struct {
			Name     string `xml:"name,attr"`
			Bindings []struct {
				Information string `xml:"bindingInformation,attr"`
			} `xml:"bindings>binding"`
		} `xml:"system.applicationHost>sites>site"`
	}
	if xml.Unmarshal(text, &config) != nil {
		return nil
	}
	var names []string
	for _, site := range config.Sites {
		for _, b := range site.Bindings {
			parts := strings.Split(b.Information, ":") // address, port, host name
			if len(parts) >= 2 && parts[len(parts)-2] == fmt.Sprint(port) {
				names = append(names, "site "+site.Name)
				break
			}
		}
	}
	return names
}
