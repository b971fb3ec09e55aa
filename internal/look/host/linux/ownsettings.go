//go:build linux

package linux

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
)

// ownSettings is the settings files that a unit's command names, those that go by its
// name or its program's, and those that its package brings.
type ownSettings struct {
	files []string
}

func (o *ownSettings) add(path string) {
	if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && len(o.files) < mostOwnSettings &&
		!slices.Contains(o.files, path) {
		o.files = append(o.files, path)
	}
}

// of gathers them for a unit. What is most surely its own comes first.
func settingsOfUnit(unit string, p properties, command []string, etc map[string][]string) []string {
	var own ownSettings
	known := p.environment()
	for _, word := range command[1:] {
		word = os.Expand(word, func(name string) string { return known[name] })
		if _, value, ok := strings.Cut(word, "="); ok {
			word = value
		}
		for _, each := range strings.Fields(word) { // a variable may hold more than one
			if filepath.IsAbs(each) {
				own.add(each)
			}
		}
	}
	base, _, _ := strings.Cut(strings.TrimSuffix(unit, ".service"), "@")
	program := filepath.Base(command[0])
	var names []string
	bare := strings.TrimRight(base, "0123456789.-") // without a version
	for _, name := range []string{base, program, strings.TrimSuffix(program, "d"), bare} {
		if name != "" && !strings.ContainsAny(name, "*?[") && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for _, name := range names {
		own.named(name)
	}
	for _, name := range names { // in a folder of another name
		for _, end := range common.SettingsEnds {
			for _, each := range etc[name+end] {
				own.add(each)
			}
		}
	}
	for _, from := range []string{p.text("SourcePath"), p.text("FragmentPath")} {
		for _, each := range conffiles(from) {
			own.add(each)
		}
	}
	return own.files
}

// foldersOfEtc is the files in the folders of /etc, by their names.
func foldersOfEtc() map[string][]string {
	files := map[string][]string{}
	folders, err := os.ReadDir("/etc")
	if err != nil {
		return files
	}
	for _, folder := range folders {
		if !folder.IsDir() {
			continue
		}
		entries, err := os.ReadDir("/etc/" + folder.Name())
		if err != nil {
			continue // for root alone
		}
		for _, e := range entries {
			files[e.Name()] = append(files[e.Name()], filepath.Join("/etc", folder.Name(), e.Name()))
		}
	}
	return files
}

// named adds the files that go by a name.
func (o *ownSettings) named(name string) {
	o.add("/etc/default/" + name)
	for _, end := range common.SettingsEnds {
		o.add("/etc/" + name + end)
	}
	isSettings := func(file string) bool {
		return slices.ContainsFunc(common.SettingsEnds, func(end string) bool {
			return strings.HasSuffix(file,
				end)
		}) ||
			file == name || file == "config"
	}
	any := func(file string) bool { // a service a file, whatever it is called
		return !strings.HasPrefix(file, ".") && !strings.HasSuffix(file, "~") && !strings.Contains(file, ".dpkg-")
	}
	o.within("/etc/"+name, isSettings, deepest)
	o.within("/etc/"+name+".d", any, 1)
}

// unused is how folders are called whose settings count only if something refers to them.
var unused = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)available|example|sample|template|disabled|backup|\bold\b`)
})

// deepest is how many folders deep settings are looked for.
const deepest = 3

// within adds the files of a folder, before those of the folders in it.
func (o *ownSettings) within(folder string, take func(string) bool, depth int) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return
	}
	var folders []string
	for _, e := range entries {
		path := filepath.Join(folder, e.Name())
		if info, err := os.Stat(path); err == nil && info.IsDir() { // a link to one too
			if unused().MatchString(e.Name()) {
				continue
			}
			folders = append(folders, path)
		} else if take(e.Name()) {
			o.add(path)
		}
	}
	if depth > 1 {
		for _, each := range folders {
			o.within(each, take, depth-1)
		}
	}
}

// environment is the variables of a unit's commands: those that are given, and those of its
// files (systemd.exec(5), EnvironmentFile=).
func (p properties) environment() map[string]string {
	values := map[string]string{}
	take := func(line string) {
		if name, value, ok := strings.Cut(line, "="); ok {
			values[strings.TrimSpace(name)] = strings.Trim(strings.TrimSpace(value), `"'`)
		}
	}
	for _, each := range p.list("Environment") {
		take(each)
	}
	rows, _ := p["EnvironmentFiles"].([][]any)
	for _, row := range rows {
		path, _ := row[0].(string)
		text, err := file.Head(path, mostSettingsText)
		if err != nil {
			continue // most may be missing
		}
		for line := range strings.Lines(string(text)) {
			if line = strings.TrimSpace(line); line != "" && !strings.ContainsAny(line[:1], "#;") {
				take(line)
			}
		}
	}
	return values
}

// beside is what packages bring that is no settings of what they run.
var besideSettings = []string{"/etc/init.d/", "/etc/cron", "/etc/logrotate.d/", "/etc/apparmor", "/etc/pam.d/",
	"/etc/ufw/", "/etc/xdg/"}

// conffiles is the settings files of the package that a file is of, as dpkg knows them. It
// is looked for among the packages that are called like the file.
func conffiles(path string) []string {
	like, _, _ := strings.Cut(strings.TrimSuffix(filepath.Base(path), ".service"), "@")
	const shortest = 3
	if len(like) < shortest || strings.ContainsAny(like, "*?[") {
		return nil
	}
	lists, err := filepath.Glob("/var/lib/dpkg/info/" + like[:shortest] + "*.conffiles")
	if err != nil {
		return nil
	}
	var found []string
	for _, list := range lists {
		all, err := file.Head(strings.TrimSuffix(list, ".conffiles")+".list", mostPackageFiles)
		if err != nil || !hasFile(all, path) {
			continue
		}
		text, err := file.Head(list, mostSettingsText)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			line = strings.TrimSpace(line)
			other := func(prefix string) bool { return strings.HasPrefix(line, prefix) }
			if filepath.IsAbs(line) && !strings.Contains(line, "/schema/") &&
				!slices.ContainsFunc(besideSettings, other) {
				found = append(found, line)
			}
		}
	}
	return found
}

// serviceNames is what the host calls a port (services(5)), with other names for it, over any transport.
func serviceNames(port uint16) []string {
	text, err := file.Head("/etc/services", mostSettingsText)
	if err != nil {
		return nil // few hosts of containers have one
	}
	var names []string
	for line := range strings.Lines(string(text)) {
		line, _, _ = strings.Cut(line, "#")
		fields := strings.Fields(line)
		if len(fields) < 2 {
			continue
		}
		number, _, _ := strings.Cut(fields[1], "/")
		if number == strconv.Itoa(int(port)) {
			names = append(append(names, fields[0]), fields[2:]...)
		}
	}
	return names
}

// calledAs reports whether a unit or its program goes by one of the names of a port:
// "nbd-server" by "nbd".
func calledAs(names []string, unit, program string) bool {
	base, _, _ := strings.Cut(strings.TrimSuffix(unit, ".service"), "@")
	const shortest = 3
	return slices.ContainsFunc(names, func(name string) bool {
		is := func(own string) bool {
			return own == name || own == name+"d" || len(name) >= shortest && strings.HasPrefix(own, name+"-")
		}
		return is(base) || is(program)
	})
}
