//go:build windows

package windows

import (
	"errors"

	"golang.org/x/sys/windows/registry"

	"uakari/internal/fact"
	"uakari/internal/look/library"
)

func init() { library.System = schannel }

// schannel is the library of the system, as the registry sets it up.
func schannel() (fact.Library, error) {
	values, err := valuesBelow(library.SchannelKey)
	if err != nil && !errors.Is(err, registry.ErrNotExist) {
		return fact.Library{}, err
	}
	suites, err := valuesBelow(library.SuitesKey)
	if err != nil && !errors.Is(err, registry.ErrNotExist) {
		return fact.Library{}, err
	}
	build := 0
	if key, err := registry.OpenKey(registry.LOCAL_MACHINE, versionKey, registry.QUERY_VALUE); err == nil {
		defer key.Close()
		text, _, _ := key.GetStringValue("CurrentBuild") // an older system lacks it, and is 0
		build = library.Build(text)
	}
	return library.Schannel(append(values, suites...), build), nil
}
