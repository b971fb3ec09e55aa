package weigh

import (
	"archive/zip"
	"encoding/json"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
)

// recordedSets is what was seen of real hosts with a fault each, by both sides
// and by the client alone.
var recordedSets = sync.OnceValues(func() (map[string]fact.Set, error) {
	archive, err := zip.OpenReader("testdata/recorded.zip")
	if err != nil {
		return nil, err
	}
	defer archive.Close()
	sets := map[string]fact.Set{}
	for _, file := range archive.File {
		opened, err := file.Open()
		if err != nil {
			return nil, err
		}
		text, err := io.ReadAll(opened)
		opened.Close()
		if err != nil {
			return nil, err
		}
		set, err := fact.DecodeSet(file.Name, text)
		if err != nil {
			return nil, err
		}
		sets[strings.TrimSuffix(file.Name, ".json")] = set
	}
	return sets, nil
})

func recorded(t testing.TB) (names []string, sets map[string]fact.Set) {
	t.Helper()
	sets, err := recordedSets()
	if err != nil {
		t.Fatal(err)
	}
	for name := range sets {
		names = append(names, name)
	}
	slices.Sort(names)
	return names, sets
}

// subset is the set without the facts that keep says no to.
func subset(set fact.Set, keep func(i int) bool) fact.Set {
	sub := fact.New(set.Ask, set.Vantages)
	var kept []fact.Fact
	for i, f := range set.Facts {
		if keep(i) {
			kept = append(kept, f)
		}
	}
	sub = sub.With(kept...)
	sub.Ended, sub.Behind = set.Ended, set.Behind
	return sub
}

// checkTrail fails if a trail breaks what every trail promises.
func checkTrail(t testing.TB, name string, tr trail.Trail) {
	t.Helper()
	bad := func(format string, args ...any) {
		t.Helper()
		t.Errorf(name+": "+format, args...)
	}
	var order []trail.Rung
	for _, f := range tr.Rungs {
		order = append(order, f.Name)
	}
	if !slices.Equal(order, trail.Ladder) {
		bad("rungs %v", order)
	}
	evidence, keys := map[string]bool{}, map[string]trail.Cause{}
	for _, e := range tr.Evidence {
		evidence[e.ID] = true
	}
	for _, c := range tr.Causes {
		if _, twice := keys[c.Key]; twice {
			bad("the key %s twice", c.Key)
		}
		keys[c.Key] = c
	}
	free := 0
	for _, c := range tr.Causes {
		if _, known := catalogue.Explain(c.ID); !known {
			bad("%s is not in the catalogue", c.ID)
		}
		if c.Blocking && c.Certainty == trail.Possible {
			bad("%s is blocking and only possible", c.ID)
		}
		if c.Certainty == trail.Proven && len(c.Because) == 0 {
			bad("%s is proven by nothing", c.ID)
		}
		if c.Certainty == trail.Proven && len(c.Short) > 0 {
			bad("%s is proven and short of %v", c.ID, c.Short)
		}
		if c.Blocking && len(c.MaskedBy) == 0 {
			free++
		}
		for _, id := range c.Because {
			if !evidence[id] {
				bad("%s rests on %s, which is not among the evidence", c.ID, id)
			}
		}
		for _, key := range c.MaskedBy {
			if by, ok := keys[key]; !ok || !by.Blocking || key == c.Key {
				bad("%s is masked by %s", c.Key, key)
			}
		}
		if c.Summary == "" {
			bad("%s says nothing", c.ID)
		}
	}
	switch fault := tr.Outcome == trail.OutcomeFault; {
	case fault && free == 0:
		bad("a fault without a first blocking cause")
	case !fault && len(tr.Blocking()) > 0:
		bad("%s, and %s blocks", tr.Outcome, tr.Blocking()[0].ID)
	case tr.Outcome == trail.OutcomeClear && tr.Reached == trail.No:
		bad("clear, and not reached")
	}
	for _, f := range tr.Rungs {
		blocks := slices.ContainsFunc(tr.Causes, func(c trail.Cause) bool { return c.Rung == f.Name && c.Blocking })
		if blocks != (f.State == trail.Fault) {
			bad("rung %s is %s, blocking causes on it: %v", f.Name, f.State, blocks)
		}
		for _, key := range f.Follows {
			if _, ok := keys[key]; !ok {
				bad("rung %s follows from %s, which is no cause", f.Name, key)
			}
		}
		if f.Summary == "" {
			bad("rung %s says nothing", f.Name)
		}
	}
	for _, b := range tr.Behind {
		checkTrail(t, name+" behind", b.Trail)
	}
}

// TestEveryTrailKeepsItsPromises weighs all that was recorded, whole and with
// facts left out at random, alone and in runs.
func TestEveryTrailKeepsItsPromises(t *testing.T) {
	names, sets := recorded(t)
	random := rand.New(rand.NewPCG(1, 2))
	for _, name := range names {
		set := sets[name]
		tr, _ := Weigh(set)
		checkTrail(t, name, tr)
		for range 6 {
			share := random.Float64()
			tr, _ := Weigh(subset(set, func(int) bool { return random.Float64() < share }))
			checkTrail(t, name+" in part", tr)
			from, to := random.IntN(len(set.Facts)+1), random.IntN(len(set.Facts)+1)
			tr, _ = Weigh(subset(set, func(i int) bool { return i < from || i >= to }))
			checkTrail(t, name+" with a gap", tr)
		}
		if t.Failed() {
			t.FailNow()
		}
	}
}

// FuzzWeighInPart leaves facts out as the bytes say, one bit each.
func FuzzWeighInPart(f *testing.F) {
	names, sets := recorded(f)
	for i := range names {
		f.Add(uint16(i), []byte{0xff, 0x7f, 0xfe})
	}
	f.Fuzz(func(t *testing.T, which uint16, bits []byte) {
		name := names[int(which)%len(names)]
		tr, _ := Weigh(subset(sets[name], func(i int) bool {
			return len(bits) == 0 || bits[i/8%len(bits)]>>(i%8)&1 == 1
		}))
		checkTrail(t, name, tr)
	})
}

// FuzzWeigh sees that no facts, however strange, make weighing panic or break
// what every trail promises, and that the same facts give the same trail.
func FuzzWeigh(f *testing.F) {
	seed := func(s *scenario) {
		text, err := json.Marshal(s.set)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(text)
	}
	t := &testing.T{}
	seed(
		newScene(
			t,
			web,
		).holds("v1", gauge).
			holds("v2", tidebook).
			named(tidebook).
			hosts("10.20.0.66").
			client(tidebook, reset).
			listening(listener("127.0.0.1", 80, "nginx")).
			programs("systemd", with(nginxDown, stopped)),
	)
	seed(
		newScene(
			t,
			secure,
		).named(tidebook, "fd20::14").
			client(tidebook, connected, shook(fact.Handshake{Ending: fact.Done, Chain: [][]byte{{1, 2}}}),
				trusting([]byte{3}), replied(403)),
	)
	seed(newScene(t, "mysql://tide\u200bbook").asking("varzea.example").client(tidebook, icmp(gauge, 1)))
	f.Fuzz(func(t *testing.T, text []byte) {
		set, err := fact.DecodeSet("x", text)
		if err != nil {
			return
		}
		first, _ := Weigh(set)
		checkTrail(t, "a set", first)
		second, _ := Weigh(set)
		one, err1 := json.Marshal(first)
		two, err2 := json.Marshal(second)
		if err1 == nil && err2 == nil && string(one) != string(two) {
			t.Errorf("two judgements of the same facts:\n%s\n%s", one, two)
		}
	})
}
