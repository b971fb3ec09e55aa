package trail

// RehearsalFormat is the format of a rehearsal.
const RehearsalFormat = "uakari.rehearsal/1"

// Rehearsal is what the fixes of a run would come to, one after the other, by the facts that
// were kept ("uakari.rehearsal/1").
type Rehearsal struct {
	Format   string      `json:"format"`
	Endpoint string      `json:"endpoint"`
	Outcome  Outcome     `json:"outcome"` // of the run itself
	Steps    []Rehearsed `json:"steps"`
	// Clears is that after all steps nothing that was seen is in the way.
	Clears bool     `json:"clears"`
	Unseen []string `json:"unseen"` // rungs of which only a new look can tell then
}

// StepOf is the first fix of a cause, before anything is supposed.
func StepOf(c Cause) Rehearsed {
	s := Rehearsed{Cause: c.ID, Certainty: c.Certainty, Summary: c.Summary}
	if len(c.Remedies) > 0 {
		s.Fix = &c.Remedies[0]
	}
	return s
}

// Rehearsed is one fix, and what is left after it.
type Rehearsed struct {
	Cause     string    `json:"cause"`
	Certainty Certainty `json:"certainty"`
	Summary   string    `json:"summary"`
	Fix       *Remedy   `json:"fix,omitempty"`
	Changes   string    `json:"changes"` // what was taken to change: "nginx is running"
	Left      []string  `json:"left,omitempty"`
	Unseen    []string  `json:"unseen,omitempty"`
	// Idle is that the same cause is found after it: the fix changes nothing that was seen.
	Idle bool `json:"idle,omitempty"`
}
