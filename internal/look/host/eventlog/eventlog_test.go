package eventlog

import (
	"strings"
	"testing"

	"uakari/internal/redact"
)

// Events as the log renders them, by its documented form; none was taken from a
// real system.
const (
	notStarted = `<Event xmlns="http://schemas.microsoft.com/win/2004/08/events/event"><System><Provider ` +
		`Name="Service Control Manager" Guid="{555908d1-a6d7-4695-8e1e-26931d2012f4}" EventSourceName="Service ` +
		`Control Manager"/><EventID Qualifiers="49152">7038</EventID><Level>2</Level><TimeCreated ` +
		`SystemTime="2026-11-24T03:11:12.123456700Z"/><EventRecordID>900</EventRecordID><Channel>System</Channel><Computer>tidebook</Computer></System><EventData><Data Name="param1">Tidebook</Data><Data Name="param2">.\svc-tide</Data><Data Name="param3">%%1326</Data></EventData></Event>`
	logonFails = `<Event xmlns="http://schemas.microsoft.com/win/2004/08/events/event"><System><Provider ` +
		`Name="Microsoft-Windows-Security-Auditing"/><EventID>4625</EventID><TimeCreated ` +
		`SystemTime="2026-11-24T03:12:00Z"/><Channel>Security</Channel><Computer>tidebook</Computer></System><EventData><Data Name="TargetUserName">gauge</Data><Data Name="Status">0xc000006d</Data><Data Name="SubStatus">0xC000006A</Data><Data Name="LogonType">3</Data><Data Name="IpAddress">10.20.7.31</Data><Data Name="SubjectUserName">-</Data></EventData></Event>`
	ownWords = `<Event xmlns="http://schemas.microsoft.com/win/2004/08/events/event"><System><Provider ` +
		`Name="Tidebook"/><EventID>1</EventID><TimeCreated SystemTime="not a time"/></System><EventData><Data>The ` +
		`table of tides is missing</Data></EventData></Event>`
)

// TestUnexpected is how often a service ended by itself, of the manager's events alone.
func TestUnexpected(t *testing.T) {
	ended := strings.Replace(strings.Replace(notStarted, ">7038<", ">7031<", 1), `.\svc-tide`, "3", 1)
	for text, want := range map[string]int{
		ended: 3, strings.Replace(ended, ">7031<", ">7034<", 1): 3, notStarted: 0, ownWords: 0,
		strings.Replace(ended, "Service Control Manager", "Tidebook", 1): 0,
	} {
		e, err := Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		if times, ok := e.Unexpected(); times != want || ok != (want > 0) {
			t.Errorf("%d, %v; want %d: %s", times, ok, want, text)
		}
	}
}

func TestEvents(t *testing.T) {
	for text, want := range map[string][]string{
		notStarted: {"event 7038 of Service Control Manager", "its account could not log on", "svc-tide"},
		logonFails: {"event 4625", "a logon failed", "the password is wrong", "gauge", "10.20.7.31"},
		ownWords:   {"event 1 of Tidebook", "The table of tides is missing"},
	} {
		e, err := Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		line := e.Line("Tidebook", func(text string) string { return redact.LogLine(text) })
		for _, part := range want {
			if !strings.Contains(line.Text, part) {
				t.Errorf("%q is not in %q", part, line.Text)
			}
		}
		if timed := text != ownWords; timed == line.At.IsZero() {
			t.Errorf("its time: %v", line.At)
		}
		if strings.Contains(line.Text, ", -") {
			t.Errorf("an empty value is told: %q", line.Text)
		}
	}
	if _, err := Parse([]byte("<Event><System>")); err == nil {
		t.Error("half an event is read")
	}
}
