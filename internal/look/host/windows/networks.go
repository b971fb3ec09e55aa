//go:build windows

package windows

import (
	"errors"
	"fmt"
	"runtime"
	"slices"

	"github.com/go-ole/go-ole"
	"github.com/go-ole/go-ole/oleutil"
)

// listOfNetworks is the class of the system's list of networks (netlistmgr.h).
const listOfNetworks = "{DCB00C01-570F-4A9B-8D69-199FDBA5723B}"

// connected asks that list for those that the host is on now (NLM_ENUM_NETWORK_CONNECTED).
const connected = 1

// connectedKinds is the kinds of the networks that the host is on now, as the firewall
// takes them; none where the system does not say. It was written from the documented
// interface, and not seen on a real system.
func connectedKinds() (kinds []string) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err := ole.CoInitializeEx(0, ole.COINIT_MULTITHREADED); err != nil {
		return nil
	}
	defer ole.CoUninitialize()
	class, err := ole.CLSIDFromString(listOfNetworks)
	if err != nil {
		return nil
	}
	made, err := ole.CreateInstance(class, ole.IID_IDispatch)
	if err != nil {
		return nil
	}
	defer made.Release()
	manager, err := made.QueryInterface(ole.IID_IDispatch)
	if err != nil {
		return nil
	}
	defer manager.Release()
	networks, err := oleutil.CallMethod(manager, "GetNetworks", connected)
	if err != nil {
		return nil
	}
	defer networks.Clear()
	list := networks.ToIDispatch()
	if list == nil {
		return nil
	}
	err = oleutil.ForEach(list, func(each *ole.VARIANT) error {
		defer each.Clear()
		network := each.ToIDispatch()
		if network == nil {
			return errors.New("no network")
		}
		kind, err := oleutil.CallMethod(network, "GetCategory")
		if err != nil {
			return err
		}
		name := categories[fmt.Sprint(kind.Value())]
		if name == "" {
			return fmt.Errorf("a network of a kind that is not known: %v", kind.Value())
		}
		if !slices.Contains(kinds, name) {
			kinds = append(kinds, name)
		}
		return nil
	})
	if err != nil {
		return nil // one that did not say may be of any kind
	}
	return kinds
}
