package trail

import (
	"fmt"
	"strings"
	"testing"
)

// TestJudge goes over everything that decides: outcome and reached are one of
// four pairs, and only what was asked for, tried and answered is clear.
func TestJudge(t *testing.T) {
	pairs := map[string]bool{"clear yes": true, "fault no": true, "unsure no": true, "unsure unknown": true}
	for _, came := range []Reached{Yes, No, Unknown} {
		for _, blocked := range []bool{false, true} {
			for _, untried := range []bool{false, true} {
				outcome, reached := Judge(came, blocked, untried)
				name := fmt.Sprintf("%s, blocked %v, untried %v", came, blocked, untried)
				if !pairs[string(outcome)+" "+string(reached)] {
					t.Errorf("%s: %s and %s do not go together", name, outcome, reached)
				}
				if (outcome == OutcomeClear) != (came == Yes && !blocked && !untried) {
					t.Errorf("%s: %s", name, outcome)
				}
				if (outcome == OutcomeFault) != blocked {
					t.Errorf("%s: %s", name, outcome)
				}
			}
		}
	}
}

// TestVerdict goes over {how the try came} × {what blocks} × {account asked,
// tried, accepted} × {signs}: the headline, the JSON and the exit status say the
// same of each.
func TestVerdict(t *testing.T) {
	blocks := map[string]string{
		"": "", "ports/none-listening": "No: c cannot", "ports/dynamic-shut": "No: c reaches e, but not the port that",
		"login/rejected":      "No: c reaches e, but is not let in",
		"answer/error-status": "No: c reaches e, and it answers wrongly",
		"settings/wrong-host": "No: c can reach e, but its own program", "rules/out-of-scope": "No: c connects, but",
		"settings/not-received": "No: c connects, but the application is not healthy: 1 of 1 signs fails",
	}
	for _, came := range []Reached{Yes, No, Unknown} {
		for cause, headline := range blocks {
			for _, account := range []string{"", "not tried", "rejected", "accepted"} {
				for _, sign := range []SignState{"", SignMet, SignFails, SignUnseen} {
					if (sign == SignFails) != (cause == "settings/not-received") ||
						account == "rejected" && cause != "login/rejected" ||
						cause != "" && cause != "ports/none-listening" && came != Yes ||
						cause == "ports/none-listening" && came == Yes {
						continue // cannot be
					}
					tr := verdictTrail(came, cause, account, sign)
					name := fmt.Sprintf("%s, %q, account %q, sign %q", came, cause, account, sign)
					line, status := tr.Headline("c", "e"), tr.Verdict().Status()
					works := came == Yes && cause == "" && (account == "" || account == "accepted") &&
						(sign == "" || sign == SignMet)
					yes := strings.HasPrefix(line, "Yes: ") || strings.HasPrefix(line, "Connects: ")
					if yes != works || (status == 0) != works || (tr.Outcome == OutcomeClear) != works ||
						(tr.Reached == Yes) != works {
						t.Errorf("%s: %s; %s, %s, exit %d", name, line, tr.Outcome, tr.Reached, status)
					}
					if strings.HasPrefix(line, "No: ") != (tr.Reached == No) ||
						(status == 1) != (tr.Outcome == OutcomeFault) {
						t.Errorf("%s: %s; %s, %s, exit %d", name, line, tr.Outcome, tr.Reached, status)
					}
					if cause != "" && !strings.HasPrefix(line, headline) {
						t.Errorf("%s: %s", name, line)
					}
				}
			}
		}
	}
}

// verdictTrail is a trail as weighing makes one.
func verdictTrail(came Reached, cause, account string, sign SignState) Trail {
	var t Trail
	for _, rung := range Ladder {
		t.Rungs = append(t.Rungs, Finding{Name: rung, State: Clear, Summary: "fine"})
	}
	if cause != "" {
		rung := Rung(cause[:strings.IndexByte(cause, '/')])
		t.Causes = []Cause{{Key: "c1", ID: cause, Rung: rung, Certainty: Proven, Blocking: true}}
		for i := range t.Rungs {
			if t.Rungs[i].Name == rung {
				t.Rungs[i].State = Fault
			}
		}
		t.Answers, came = came == Yes, No
	}
	if account == "not tried" {
		t.Untried = append(t.Untried, "the login")
	}
	if sign != "" {
		t.Signs = []Sign{{Host: "c", What: "/x", State: sign}}
	}
	if sign == SignUnseen {
		t.Untried = append(t.Untried, "1 sign of the card")
	}
	t.Outcome, t.Reached = Judge(came, cause != "", len(t.Untried) > 0)
	return t
}
