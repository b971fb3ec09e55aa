package weigh

import (
	"slices"
	"sync"
	"testing"

	"uakari/internal/trail"
)

// TestProofRestsOnItsEvidence takes away, from what was recorded of real faults, all that a
// proven cause names as its evidence: it is proven no more, unless by other evidence.
func TestProofRestsOnItsEvidence(t *testing.T) {
	names, sets := recorded(t)
	var mu sync.Mutex // guards tried
	tried := map[string]bool{}
	t.Run("sets", func(t *testing.T) {
		for _, name := range names {
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				set := sets[name]
				judged, _ := Weigh(set)
				for _, c := range judged.Causes {
					if c.Certainty != trail.Proven {
						continue
					}
					mu.Lock()
					tried[c.ID] = true
					mu.Unlock()
					left := subset(set, func(i int) bool { return !slices.Contains(c.Because, set.Facts[i].ID) })
					rest, _ := Weigh(left)
					for _, again := range rest.Causes {
						if again.ID == c.ID && again.Vantage == c.Vantage && again.Certainty == trail.Proven {
							t.Errorf("%s is proven without its evidence %v: %v, %s", c.ID, c.Because, again.Because,
								again.Summary)
						}
					}
				}
			})
		}
	})
	if len(tried) < 40 {
		t.Errorf("%d causes were tried", len(tried))
	}
}

// coarser is causes that are true of the whole, too, and that it tells more precisely: what the
// client itself met, or what a server's log says.
var coarser = map[string]bool{
	"rules/transit-reject": true, "login/not-from-here": true, "login/no-right": true, "answer/error-status": true,
	"certs/server-speaks-plain": true, "certs/name-not-covered": true, "answer/source-refused": true,
	"names/server-failure": true,
}

// TestLessSeenProvesNoMore takes away one look after the other: what is missing then makes
// nothing proven that was not, at any certainty, a cause of the whole.
func TestLessSeenProvesNoMore(t *testing.T) {
	names, sets := recorded(t)
	for _, name := range names {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			set := sets[name]
			judged, _ := Weigh(set)
			was := map[string]bool{}
			for _, c := range judged.Causes {
				was[c.ID] = true
			}
			for dropped := range set.Facts {
				rest, _ := Weigh(subset(set, func(i int) bool { return i != dropped }))
				for _, c := range rest.Causes {
					if c.Certainty == trail.Proven && !was[c.ID] && !coarser[c.ID] {
						t.Errorf("without %s (%s): %s is proven: %s", set.Facts[dropped].ID, set.Facts[dropped].Source,
							c.ID, c.Summary)
					}
				}
			}
		})
	}
}
