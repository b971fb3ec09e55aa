//go:build windows

package windows

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/look"
	"uakari/internal/look/host/common"
	"uakari/internal/settingsfile"
)

// networksKey is where the system keeps the networks that it has met, with the
// kind that each was given: 0 public, 1 private, 2 domain.
const networksKey = `SOFTWARE\Microsoft\Windows NT\CurrentVersion\NetworkList\Profiles`

var categories = map[string]string{"0": "public", "1": "private", "2": "domain"}

// firewallService is the service that filters, by what the registry says.
const firewallService = "MpsSvc"

// Tables leaves the firewall: its profiles and rules, of the host itself and of
// the group policy, and who holds the ports that rules may be about.
func Tables(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	const source = "the firewall of Windows"
	var values []settingsfile.RegistryValue
	var unread []string
	for _, path := range []string{filter.FirewallKey, filter.FirewallPolicyKey} {
		list, err := valuesBelow(path)
		values = append(values, list...)
		switch {
		case errors.Is(err, registry.ErrNotExist):
		case err != nil:
			unread = append(unread, fmt.Sprintf(`HKLM\%s: %v`, path, err))
		}
	}
	if len(values) == 0 {
		why := errors.New("the registry has no settings of it")
		if len(unread) > 0 {
			why = errors.New(strings.Join(unread, "; "))
		}
		emit(env.Failed(order, source, "could not read the firewall", why, "an administrator's prompt"))
		return
	}
	f := filter.NewFirewall(values)
	filter.Defaults(f)
	f.Active = networkKinds()
	if list, err := holders(); err == nil {
		f.Holders = list
	}
	if held, _, err := common.Interfaces(); err == nil {
		for _, a := range held {
			if !a.Local && a.Up {
				f.Subnets = append(f.Subnets, a.Prefix.Masked())
			}
		}
	}
	if all, err := services(); err == nil {
		at := slices.IndexFunc(all, func(s service) bool { return strings.EqualFold(s.name, firewallService) })
		if at >= 0 && all[at].state != windows.SERVICE_RUNNING {
			unread = append(unread, "the firewall's service does not run, and what filters then is not known")
		}
	}
	t := fact.Tables{Firewall: f, Unread: unread, Count: len(f.Rules)}
	seen := env.Seen(order, source, fmt.Sprintf("%d rules", t.Count))
	seen.Tables = &t
	emit(seen)
}

// networkKinds is the kinds of the networks that this host is on, by the system's list of
// networks; where that does not say, of those that it knows, any of which it may be on.
func networkKinds() []string {
	if kinds := connectedKinds(); len(kinds) > 0 {
		return kinds
	}
	values, err := valuesBelow(networksKey)
	if err != nil {
		return nil
	}
	var kinds []string
	for _, v := range values {
		if kind := categories[v.Text]; strings.EqualFold(v.Name, "Category") && kind != "" &&
			!slices.Contains(kinds, kind) {
			kinds = append(kinds, kind)
		}
	}
	return kinds
}

// Bounds on what is read of the registry.
const (
	mostKeys   = 500
	mostValues = 20_000
)

// valuesBelow is every value of a key and of those in it, below
// HKEY_LOCAL_MACHINE.
func valuesBelow(path string) ([]settingsfile.RegistryValue, error) {
	var list []settingsfile.RegistryValue
	for left, seen := []string{path}, 0; len(left) > 0 && seen < mostKeys; seen++ {
		key, err := registry.OpenKey(registry.LOCAL_MACHINE, left[0], registry.READ)
		if err != nil {
			return list, err
		}
		names, err := key.ReadValueNames(0)
		for _, name := range names {
			if v, ok := valueOf(key, name); ok && len(list) < mostValues {
				list = append(list, settingsfile.RegistryValue{Path: left[0], Name: name, Text: v})
			}
		}
		below, err2 := key.ReadSubKeyNames(0)
		key.Close()
		if err := errors.Join(err, err2); err != nil {
			return list, err
		}
		for _, each := range below {
			left = append(left, left[0]+`\`+each)
		}
		left = left[1:]
	}
	return list, nil
}

// valueOf is one value as text; numbers are decimal.
func valueOf(key registry.Key, name string) (string, bool) {
	_, kind, err := key.GetValue(name, nil)
	if err != nil && !errors.Is(err, registry.ErrShortBuffer) {
		return "", false
	}
	switch kind {
	case registry.SZ, registry.EXPAND_SZ:
		text, _, err := key.GetStringValue(name)
		return text, err == nil
	case registry.MULTI_SZ:
		list, _, err := key.GetStringsValue(name)
		return strings.Join(list, "\n"), err == nil
	case registry.DWORD, registry.QWORD:
		n, _, err := key.GetIntegerValue(name)
		return strconv.FormatUint(n, 10), err == nil
	}
	return "", false
}
