// Package eventlog reads events of Windows as its event log renders them, in
// XML (the schema of [MS-EVEN6] appendix A). It asks no system: it was written
// from the documented form and tried on texts of that form alone.
package eventlog

import (
	"encoding/xml"
	"fmt"
	"strconv"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// Event is one event.
type Event struct {
	System struct {
		Provider struct {
			Name string `xml:"Name,attr"`
		}
		EventID     uint32
		TimeCreated struct {
			SystemTime string `xml:"SystemTime,attr"`
		}
		Computer string
	}
	EventData struct {
		Data []Data
	}
	RenderingInfo struct {
		Message string
	}
}

// Data is one value of an event.
type Data struct {
	Name string `xml:"Name,attr"`
	Text string `xml:",chardata"`
}

// Parse reads one event.
func Parse(text []byte) (Event, error) {
	var e Event
	err := xml.Unmarshal(text, &e)
	return e, err
}

// At is when it was written; zero if it does not say so.
func (e Event) At() time.Time {
	at, err := time.Parse(time.RFC3339Nano, e.System.TimeCreated.SystemTime)
	if err != nil {
		return time.Time{}
	}
	return at.UTC()
}

// Value is a value by its name, or "".
func (e Event) Value(name string) string {
	for _, d := range e.EventData.Data {
		if strings.EqualFold(d.Name, name) {
			return strings.TrimSpace(d.Text)
		}
	}
	return ""
}

// meanings is what events say, in words that do not change with the language of
// the system, by source and number: the service manager's, and the audit of
// logons.
var meanings = map[string]string{
	"Service Control Manager 7000":             "the service did not start",
	"Service Control Manager 7001":             "a service that it needs did not start",
	"Service Control Manager 7009":             "the service did not answer the start in time",
	"Service Control Manager 7011":             "the service did not answer in time",
	"Service Control Manager 7022":             "the service hung while it started",
	"Service Control Manager 7023":             "the service ended with an error",
	"Service Control Manager 7024":             "the service ended with an error of its own",
	"Service Control Manager 7031":             "the service ended unexpectedly",
	"Service Control Manager 7034":             "the service ended unexpectedly",
	"Service Control Manager 7036":             "the service changed its state",
	"Service Control Manager 7038":             "its account could not log on",
	"Service Control Manager 7040":             "its kind of start was changed",
	"Service Control Manager 7041":             "its account may not log on as a service",
	"Service Control Manager 7045":             "the service was installed",
	"Microsoft-Windows-Security-Auditing 4625": "a logon failed",
	"Microsoft-Windows-Security-Auditing 4740": "the account was locked",
	"Microsoft-Windows-Security-Auditing 4771": "a ticket was refused",
}

// statuses is why a logon failed, by its status or sub-status (MS-ERREF section
// 2.3.1).
var statuses = map[string]string{
	"0xc0000064": "there is no such account",
	"0xc000006a": "the password is wrong",
	"0xc0000234": "the account is locked",
	"0xc0000072": "the account is disabled",
	"0xc0000193": "the account has expired",
	"0xc0000071": "the password has expired",
	"0xc0000224": "the password must be changed first",
	"0xc000006f": "not at this time of day",
	"0xc0000070": "not from this computer",
	"0xc000015b": "this kind of logon is not granted to it",
	"0xc0000133": "the clocks are too far apart",
	"0xc000005e": "no domain controller could be asked",
}

// Unexpected is how often a service had ended unexpectedly by this event of its manager
// (7031 and 7034, whose second value counts).
func (e Event) Unexpected() (times int, ok bool) {
	number := e.System.EventID & 0xffff
	if e.System.Provider.Name != "Service Control Manager" || number != 7031 && number != 7034 {
		return 0, false
	}
	times, err := strconv.Atoi(e.Value("param2"))
	return times, err == nil && times > 0
}

// Line is the event as a line of a log: its number, its source, what it means,
// and its values. Of the text is kept what the function returns.
func (e Event) Line(unit string, kept func(text string) string) fact.LogLine {
	parts := []string{fmt.Sprintf("event %d of %s", e.System.EventID&0xffff, e.System.Provider.Name)}
	if m := meanings[fmt.Sprintf("%s %d", e.System.Provider.Name, e.System.EventID&0xffff)]; m != "" {
		parts = append(parts, m)
	}
	if text := strings.TrimSpace(e.RenderingInfo.Message); text != "" {
		parts = append(parts, text)
	}
	for _, name := range []string{"SubStatus", "Status"} {
		if m := statuses[strings.ToLower(e.Value(name))]; m != "" {
			parts = append(parts, m)
			break
		}
	}
	var values []string
	for _, d := range e.EventData.Data {
		if text := strings.TrimSpace(d.Text); text != "" && text != "-" {
			values = append(values, text)
		}
	}
	if len(values) > 0 {
		parts = append(parts, strings.Join(values, ", "))
	}
	const most = 500
	return fact.LogLine{At: e.At(), Unit: unit, Text: foreign.CleanTo(kept(strings.Join(parts, ": ")), most)}
}
