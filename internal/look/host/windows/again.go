//go:build windows

package windows

import (
	"fmt"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

// again says what the manager does after a service ended unexpectedly for the first time;
// "" where it does nothing, or nobody may ask.
func again(name string) string {
	asking.Lock()
	defer asking.Unlock()
	manager, err := windows.OpenSCManager(nil, nil, windows.SC_MANAGER_CONNECT)
	if err != nil {
		return ""
	}
	defer windows.CloseServiceHandle(manager)
	wide, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return ""
	}
	service, err := windows.OpenService(manager, wide, windows.SERVICE_QUERY_CONFIG)
	if err != nil {
		return ""
	}
	defer windows.CloseServiceHandle(service)
	buffer := make([]byte, 8<<10) // the most that this call ever needs
	var needed uint32
	if err := windows.QueryServiceConfig2(service, windows.SERVICE_CONFIG_FAILURE_ACTIONS, &buffer[0],
		uint32(len(buffer)), &needed); err != nil {
		return ""
	}
	actions := (*windows.SERVICE_FAILURE_ACTIONS)(unsafe.Pointer(&buffer[0]))
	if actions.ActionsCount == 0 || actions.Actions == nil || actions.Actions.Type != windows.SC_ACTION_RESTART {
		return ""
	}
	after := time.Duration(actions.Actions.Delay) * time.Millisecond
	return fmt.Sprintf("it is started again %s after it ended unexpectedly", after)
}
