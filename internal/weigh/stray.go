package weigh

import (
	"uakari/internal/fact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/names"
	"uakari/internal/weigh/scene"
	"uakari/internal/weigh/settings"
)

// strayTry weighs an endpoint with stray characters: as typed, and then as it
// was meant. It gives nil for an endpoint without any.
func strayTry(v *scene.Scene, w *scene.Wants, target fact.Target, depth int) *scene.Try {
	e := v.Ask.Endpoint
	if len(e.Stray) == 0 || depth > 0 {
		return nil
	}
	t := &scene.Try{Target: target, Symptom: gate.NotTried, Lookup: &scene.Lookup{Name: target.Name, Settled: true}}
	if e.Host != e.Clean {
		t.Lookup = v.LookUp(w, e.Host)
		if len(t.Lookup.Addrs) > 0 && (t.Lookup.Source == nil || t.Lookup.Source.System == nil) {
			return nil // the name exists as it was typed
		}
		if t.Lookup.Settled && len(t.Lookup.Addrs) == 0 {
			t.Symptom = gate.NoAddress
		}
	}
	clean := target
	clean.Name = e.Clean
	r := gate.Reading{
		Gate: gate.Intent, Cause: "settings/stray-characters",
		Strength: gate.Read, Reach: gate.Elsewhere, Vantage: v.Client,
		Instead: &clean,
		Because: scene.FactIDs(t.Lookup.Ends...),
		Summary: "the endpoint has " + settings.StrayText(e.Stray) + "; without, the name is " + e.Clean,
		Values:  catalogue.Values{"clean": settings.CleanInput(e), "client": v.Host(v.Client)},
	}
	if len(t.Lookup.Addrs) > 0 {
		r.Because = append(r.Because, scene.FactIDs(t.Lookup.Source)...)
		r.Summary += "; the system's own look-up forgives it here, and programs that ask by themselves do not"
		r.Lacks = []gate.Lack{{Guard: gate.AllRead, Why: "which look-up the client's program uses was not seen"}}
	}
	meant := v.LookUp(w, e.Clean)
	switch {
	case meant.Source != nil:
		r.Because = append(r.Because, meant.Source.ID)
	case meant.Settled && !meant.Literal:
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.AllRead, Why: "the cleaned name does not resolve either"})
	}
	readings := []gate.Reading{r}
	if t.Symptom == gate.NoAddress {
		readings = append(readings, names.NoAddressReadings(v, w, t)...)
	}
	t.Verdict = gate.Combine(v.Ending(t), readings, func(r gate.Reading) []gate.Lack { return v.Guards(t, r) })
	correct(v, w, t, depth)
	return t
}
