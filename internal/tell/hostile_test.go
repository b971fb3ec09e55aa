package tell

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"uakari/internal/weigh/login"

	"uakari/internal/casebook"
	"uakari/internal/confirm"
	"uakari/internal/fact"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// hostile is text that would move a cursor, change a title or hide words.
const hostile = "x\x1b[2J\x1b]0;t\x07\u202e\u200b\x9b31m\x00\n"

// fill puts hostile text into every string of a value, and two elements into
// every list. Fixed words, such as states, are of types of their own and stay.
func fill(v reflect.Value, depth int) {
	switch v.Kind() {
	case reflect.String:
		if v.Type() == reflect.TypeFor[string]() {
			v.SetString(hostile)
		}
	case reflect.Pointer:
		if depth > 0 && v.Type().Elem().PkgPath() != "time" {
			v.Set(reflect.New(v.Type().Elem()))
			fill(v.Elem(), depth-1)
		}
	case reflect.Slice:
		if depth > 0 && v.Type().Elem().Kind() != reflect.Uint8 {
			v.Set(reflect.MakeSlice(v.Type(), 2, 2))
			for i := range v.Len() {
				fill(v.Index(i), depth-1)
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() && v.Type().PkgPath() != "net/netip" {
				fill(v.Field(i), depth)
			}
		}
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64:
		v.SetInt(1)
	case reflect.Uint16, reflect.Uint32, reflect.Uint64:
		v.SetUint(1)
	}
}

func filled[T any]() T {
	var v T
	fill(reflect.ValueOf(&v).Elem(), 4)
	return v
}

// TestForeignText sees that no telling lets foreign text act on a terminal.
func TestForeignText(t *testing.T) {
	judged := filled[trail.Trail]()
	judged.Outcome = trail.OutcomeUnsure
	certs := filled[trail.CertList]()
	unseen, fits := certs, certs
	unseen.Chain = nil
	fits.Problems = nil
	journey := filled[trail.Journey]()
	passes := journey
	passes.Verdict, passes.Reply.Verdict, passes.Suppose = "accept", "accept", nil
	views := filled[NameViews]()
	bare := views
	bare.Gives, bare.Views = nil, nil
	listeners := filled[fact.Listeners]()
	kept := filled[casebook.Case]()
	kept.Entries = []casebook.Entry{
		{Number: 1, Kind: casebook.Trace, Text: hostile, Set: &fact.Set{}},
		{Number: 2, Kind: casebook.Change, Text: hostile, Temporary: true, Undo: hostile},
		{Number: 3, Kind: casebook.Note, Text: hostile},
	}
	report := MakeReport(kept, map[int64]trail.Trail{1: judged}, time.Unix(0, 0))
	page, err := report.HTML()
	if err != nil {
		t.Fatal(err)
	}
	pulse := filled[weigh.Pulse]()
	pulse.Marks = map[string]string{hostile: hostile}
	var tally weigh.Tally
	tally.Add(pulse)
	card, sheet := filled[fact.Card](), filled[fact.Sheet]()
	for name, got := range map[string]string{
		"a trail": Text(judged, false), "its answer": Answer(judged, false), "in short": Short(judged),
		"confirmed": Confirmed(
			trail.Confirmation{
				Before: judged, Now: judged, Good: 1, Wanted: 3, Progress: confirm.Progress(judged, judged),
			},
			hostile,
			false,
		),
		"certs": Certs(certs, false), "no certs": Certs(unseen, false), "certs that fit": Certs(fits, false),
		"a journey": Journey(journey, false), "a journey that ends": Journey(passes, false),
		"names": Names(views, false), "a name without addresses": Names(bare, false),
		"containers": Containers([]fact.Container{{Name: hostile, State: hostile, Health: hostile,
			Published: []fact.Published{{Port: 1, Inside: 1}},
			Listeners: []fact.Listener{{Program: hostile, Port: 1}}}}, false), "ports": Ports(listeners, nil, false),
		"a port":   Port(1, listeners.All, []string{hostile}, hostile),
		"a report": report.Markdown(), "its page": page, "a case": Case(kept, nil, false),
		"cases":   Cases([]casebook.Case{kept}, true, false),
		"closing": Closed(Closing{Case: 1, Standing: kept.Entries, Differs: []string{hostile}}, false),
		"a card":  CardShown(card, false), "its draft": CardDraft(card), "checked": CardChecked(hostile, card),
		"a sheet": SheetShown(sheet, []string{hostile}, time.Unix(0, 0), false), "a sheet's file": SheetText(sheet,
			[]string{hostile}), "a sheet that is well": SheetChecked(hostile, sheet, []string{hostile}),
		"compared": CardCompared([]string{hostile}),
		"a watch":  Watching(hostile, tally, time.Second, "", false), "its end": WatchEnded(hostile, tally, false),
		"its line": Watched(pulse, []string{hostile}),
		"a mapper": Mapped(hostile, filled[fact.Mapper]()), "signing in": SignedIn(hostile,
			login.SignInTry{Account: hostile}, login.SignInVerdict{Do: "refuse", Rule: 1, Name: hostile,
				Unsure: hostile, Passed: []string{hostile}}, []string{hostile}),
		"a unit": Unit(hostile, hostile, filled[fact.Program](), hostile, time.Unix(0, 0), false),
	} {
		if strings.TrimSpace(got) == "" {
			t.Errorf("%s: nothing is told", name)
		}
		for _, bad := range []string{"\x1b", "\x07", "\u202e", "\u200b", "\x9b", "\x00"} {
			if at := strings.Index(got, bad); at >= 0 {
				t.Errorf("%s: %q gets through: %q", name, bad, got[max(0, at-60):min(len(got), at+30)])
				break
			}
		}
	}
}

// TestEmpty sees that nothing to tell is told without a panic.
func TestEmpty(t *testing.T) {
	Text(trail.Trail{}, true)
	Short(trail.Trail{})
	Confirmed(trail.Confirmation{}, "", true)
	Certs(trail.CertList{}, true)
	Journey(trail.Journey{}, true)
	Names(NameViews{}, true)
	Ports(fact.Listeners{}, nil, true)
	Port(1, nil, nil, "")
	Unit("", "", fact.Program{}, "", time.Unix(0, 0), true)
	Cases(nil, false, true)
	Case(casebook.Case{}, nil, true)
	Closed(Closing{}, true)
	CardShown(fact.Card{}, true)
	CardDraft(fact.Card{})
	WatchEnded("", weigh.Tally{}, true)
	Mapped("", fact.Mapper{})
	if _, err := MakeReport(casebook.Case{}, nil, time.Unix(0, 0)).HTML(); err != nil {
		t.Error(err)
	}
}
