//go:build windows

package windows

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"uakari/internal/fact"
	"uakari/internal/look/host/common"
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

// ownEvents is the last events that a service wrote itself.
func ownEvents(ctx context.Context, service string) ([]fact.LogLine, error) {
	if err := askable(service); err != nil {
		return nil, err
	}
	found, err := eventsOf(ctx, "Application", fmt.Sprintf("*[System[Provider[@Name='%s']]]", service))
	return linesOf(ctx, found, service), err
}

// managersEvents is the last events of the service manager that name a service, by its
// name or its title, and how often it had ended unexpectedly by them since the host was
// started.
func managersEvents(ctx context.Context, service, title string) (lines []fact.LogLine, ended int, err error) {
	if err := errors.Join(askable(service), askable(title)); err != nil {
		return nil, 0, err
	}
	found, err := eventsOf(ctx, "System", fmt.Sprintf(
		"*[System[Provider[@Name='Service Control Manager']] and EventData[Data='%s' or Data='%s']]", service, title))
	boot := time.Now().Add(-windows.DurationSinceBoot())
	for _, e := range found {
		if times, ok := e.Unexpected(); ok && e.At().After(boot) {
			ended = times
		}
	}
	return linesOf(ctx, found, service), ended, err
}

// askable refuses a name that would change the question it is put into.
func askable(name string) error {
	if strings.ContainsAny(name, `'"<>&`) {
		return errors.New("the service's name has a character that no question may have")
	}
	return nil
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
	found, err := eventsOf(ctx, channel, query)
	return linesOf(ctx, found, unit), err
}

func linesOf(ctx context.Context, found []eventlog.Event, unit string) (lines []fact.LogLine) {
	for _, e := range found {
		lines = append(lines, e.Line(unit, func(text string) string { return common.LogLine(ctx, text) }))
	}
	return lines
}

// eventsOf is the last events that a query finds, the oldest first.
func eventsOf(ctx context.Context, channel, query string) ([]eventlog.Event, error) {
	texts, err := eventTexts(ctx, channel, query)
	if err != nil {
		return nil, err
	}
	var list []eventlog.Event
	for i := len(texts) - 1; i >= 0; i-- {
		e, err := eventlog.Parse([]byte(texts[i]))
		if err != nil {
			return list, err
		}
		list = append(list, e)
	}
	return list, nil
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
