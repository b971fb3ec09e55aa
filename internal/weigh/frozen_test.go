package weigh

import (
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/trail"
	"uakari/internal/weigh/gate"
)

var update = flag.Bool("update", false, "write the frozen judgements anew")

// frozen is what was judged, in a line or a few each, by what it was judged
// of. A difference is a defect that was mended on purpose, or a mistake.
type frozen struct {
	sync.Mutex
	judged map[string]string
}

// fingerprint is of a certificate that a test makes anew each time.
var fingerprint = regexp.MustCompile(`SHA256 [0-9A-F]{8}…`)

// scenes is what was judged of the facts written by hand.
var scenes frozen

func (f *frozen) add(name, text string) {
	f.Lock()
	defer f.Unlock()
	if f.judged == nil {
		f.judged = map[string]string{}
	}
	f.judged[name] = text
}

// differ is what the file says otherwise; with -update it writes the file.
func (f *frozen) differ(file string) ([]string, error) {
	path := filepath.Join("testdata", "frozen", file)
	if *update {
		var b strings.Builder
		for _, name := range slices.Sorted(maps.Keys(f.judged)) {
			b.WriteString("== " + name + "\n" + f.judged[name])
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return nil, err
		}
		return nil, os.WriteFile(path, []byte(b.String()), 0o644)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	was := map[string]string{}
	for _, part := range strings.Split("\n"+string(text), "\n== ")[1:] {
		name, judged, _ := strings.Cut(part, "\n")
		was[name] = strings.TrimSuffix(judged, "\n") + "\n"
	}
	var differ []string
	for _, name := range slices.Sorted(maps.Keys(f.judged)) {
		if was[name] != f.judged[name] {
			differ = append(differ, fmt.Sprintf("%s\nwas\n%snow\n%s", name, was[name], f.judged[name]))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(was)) {
		if _, ok := f.judged[name]; !ok {
			differ = append(differ, name+" was not judged")
		}
	}
	return differ, nil
}

// inShort is what counts of a trail.
func inShort(t trail.Trail) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s, reached %s:", t.Outcome, t.Reached)
	for _, f := range t.Rungs {
		fmt.Fprintf(&b, " %s %s", f.Name, f.State)
		if len(f.Follows) > 0 {
			fmt.Fprintf(&b, " %s", strings.Join(f.Follows, "+"))
		}
	}
	b.WriteByte('\n')
	for _, c := range t.Causes {
		fmt.Fprintf(&b, "  %s %s %s %s", c.Key, c.ID, c.Certainty, c.Vantage)
		if c.Blocking {
			b.WriteString(" blocks")
		}
		if len(c.MaskedBy) > 0 {
			b.WriteString(" behind " + strings.Join(c.MaskedBy, "+"))
		}
		fmt.Fprintf(&b, ": %s [%s]\n", c.Summary, strings.Join(c.Because, " "))
		for _, short := range c.Short {
			b.WriteString("    short of: " + short + "\n")
		}
	}
	for _, behind := range t.Behind {
		b.WriteString("  behind it: " + strings.ReplaceAll(strings.TrimSpace(inShort(behind.Trail)), "\n", "\n    ") +
			"\n")
	}
	return fingerprint.ReplaceAllString(b.String(), "SHA256 …")
}

// judgedOf keeps what a test judged. Some tests go over their scenes in any
// order: the judgements of a test are a set.
func (s *scenario) judgedOf(t trail.Trail) {
	scenes.Lock()
	defer scenes.Unlock()
	if scenes.judged == nil {
		scenes.judged = map[string]string{}
	}
	list := strings.SplitAfter(scenes.judged[s.t.Name()], "--\n")
	list = append(list[:len(list)-1], inShort(t)+"--\n")
	slices.Sort(list)
	scenes.judged[s.t.Name()] = strings.Join(slices.Compact(list), "")
}

func TestMain(m *testing.M) {
	flag.Parse()
	gate.Mistaken = func(r gate.Reading) { panic(fmt.Sprintf("a reading does not say how strong it is: %+v", r)) }
	status := m.Run()
	whole := flag.Lookup("test.run").Value.String() == "" && flag.Lookup("test.fuzz").Value.String() == ""
	if status == 0 && whole {
		differ, err := scenes.differ("scenes.txt")
		if err != nil || len(differ) > 0 {
			fmt.Printf(
				"--- FAIL: the scenes are judged otherwise (-update takes it over) %v\n%s\n",
				err,
				strings.Join(differ, "\n"),
			)
			status = 1
		}
	}
	os.Exit(status)
}

// TestRecordedJudgements compares the judgement of every recorded set.
func TestRecordedJudgements(t *testing.T) {
	names, sets := recorded(t)
	var all frozen
	for _, name := range names {
		tr, _ := Weigh(sets[name])
		all.add(name, inShort(tr))
	}
	differ, err := all.differ("recorded.txt")
	if err != nil {
		t.Fatal(err)
	}
	for _, each := range differ {
		t.Error(each)
	}
}

// TestOrderChangesNothing shuffles the facts: in which order looks came back
// says nothing.
func TestOrderChangesNothing(t *testing.T) {
	names, sets := recorded(t)
	random := rand.New(rand.NewPCG(3, 4))
	for _, name := range names {
		set := sets[name]
		first := whole(t, set)
		for range 3 {
			other := fact.New(set.Ask, set.Vantages)
			other.Ended, other.Behind, other.Incomplete = set.Ended, set.Behind, set.Incomplete
			other.Facts = slices.Clone(set.Facts)
			random.Shuffle(len(other.Facts), func(i, j int) {
				other.Facts[i], other.Facts[j] = other.Facts[j],
					other.Facts[i]
			})
			if now := whole(t, other); now != first {
				t.Errorf("%s: another order gives another trail:\n%s\n%s", name, first, now)
				break
			}
		}
	}
}

// whole is a trail and its wants as text.
func whole(t *testing.T, set fact.Set) string {
	tr, wants := Weigh(set)
	var list []string
	for _, w := range wants {
		list = append(list, fmt.Sprint(w))
	}
	slices.Sort(list)
	text, err := json.MarshalIndent(tr, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	return string(text) + strings.Join(list, "\n")
}
