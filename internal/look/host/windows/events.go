//go:build windows

package windows

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"

	"uakari/internal/fact"
	"uakari/internal/look/host/eventlog"
)

var (
	wevtapi   = windows.NewLazySystemDLL("wevtapi.dll")
	evtQuery  = wevtapi.NewProc("EvtQuery")
	evtNext   = wevtapi.NewProc("EvtNext")
	evtRender = wevtapi.NewProc("EvtRender")
	evtClose  = wevtapi.NewProc("EvtClose")
)

// Flags of the event log (winevt.h).
const (
	queryChannel = 1
	reverse      = 0x200
	renderXML    = 1
	mostEvents   = 20
	mostEvent    = 64 << 10 // bytes
)

// events is the last events of a channel that are about a service: those of the
// service manager that name it, or those that it wrote itself.
func events(ctx context.Context, channel, service string) ([]fact.LogLine, error) {
	if strings.ContainsAny(service, `'"<>&`) {
		return nil, errors.New("the service's name has a character that no question may have")
	}
	query := fmt.Sprintf("*[System[Provider[@Name='%s']]]", service)
	if channel == "System" {
		query = fmt.Sprintf("*[System[Provider[@Name='Service Control Manager']] and EventData[Data='%s']]", service)
	}
	return eventLines(ctx, channel, query, service)
}

// failedLogons is the last logons that the host refused, of any account, and accounts
// that it locked (audit events of the documentation of Windows).
func failedLogons(ctx context.Context) ([]fact.LogLine, error) {
	return eventLines(ctx, "Security", "*[System[(EventID=4625 or EventID=4740 or EventID=4771)]]", "")
}

// newestEvents is the last events of a channel, whoever wrote them.
func newestEvents(ctx context.Context, channel string) ([]fact.LogLine, error) {
	return eventLines(ctx, channel, "*", "")
}

// eventLines is the last events that a query finds, the oldest first, as logs
// are.
func eventLines(ctx context.Context, channel, query, unit string) ([]fact.LogLine, error) {
	texts, err := eventTexts(ctx, channel, query)
	if err != nil {
		return nil, err
	}
	var lines []fact.LogLine
	for i := len(texts) - 1; i >= 0; i-- {
		e, err := eventlog.Parse([]byte(texts[i]))
		if err != nil {
			return lines, err
		}
		lines = append(lines, e.Line(unit))
	}
	return lines, nil
}

// eventTexts is the newest events that a query finds, each as XML.
func eventTexts(ctx context.Context, channel, query string) ([]string, error) {
	for _, proc := range []*windows.LazyProc{evtQuery, evtNext, evtRender, evtClose} {
		if err := proc.Find(); err != nil {
			return nil, err
		}
	}
	path, err := windows.UTF16PtrFromString(channel)
	if err != nil {
		return nil, err
	}
	asked, err := windows.UTF16PtrFromString(query)
	if err != nil {
		return nil, err
	}
	found, _, err := evtQuery.Call(0, uintptr(unsafe.Pointer(path)), uintptr(unsafe.Pointer(asked)),
		queryChannel|reverse)
	if found == 0 {
		return nil, err
	}
	defer evtClose.Call(found)
	var texts []string
	for len(texts) < mostEvents && ctx.Err() == nil {
		var event, count uintptr
		ok, _, err := evtNext.Call(found, 1, uintptr(unsafe.Pointer(&event)), 1000, 0, uintptr(unsafe.Pointer(&count)))
		if ok == 0 {
			if errors.Is(err, windows.ERROR_NO_MORE_ITEMS) {
				return texts, nil
			}
			return texts, err
		}
		text, err := eventText(event)
		evtClose.Call(event)
		if err != nil {
			return texts, err
		}
		texts = append(texts, text)
	}
	return texts, nil
}

func eventText(event uintptr) (string, error) {
	buffer := make([]uint16, mostEvent/2)
	var used, properties uint32
	ok, _, err := evtRender.Call(0, event, renderXML, mostEvent, uintptr(unsafe.Pointer(&buffer[0])),
		uintptr(unsafe.Pointer(&used)), uintptr(unsafe.Pointer(&properties)))
	if ok == 0 {
		return "", err
	}
	return windows.UTF16ToString(buffer[:used/2]), nil
}
