package trail

import "time"

// SweepFormat names the format of a sweep's result.
const SweepFormat = "uakari.sweep/1"

// Sweep is the result of many traces.
type Sweep struct {
	Format     string       `json:"format"`
	Plan       string       `json:"plan"` // its name
	Began      time.Time    `json:"began"`
	Ended      time.Time    `json:"ended"`
	Incomplete string       `json:"incomplete,omitempty"`
	Endpoints  []string     `json:"endpoints"`
	Clients    []string     `json:"clients"`
	Rows       []SweepRow   `json:"rows"`
	Groups     []SweepGroup `json:"groups"`
}

// SweepRow is one endpoint as one client saw it.
type SweepRow struct {
	Client    string    `json:"client"`
	Endpoint  string    `json:"endpoint"`
	Outcome   Outcome   `json:"outcome,omitempty"`
	Cause     string    `json:"cause,omitempty"` // the first that blocks; "": none is known
	Certainty Certainty `json:"certainty,omitempty"`
	Summary   string    `json:"summary,omitempty"`
	// Unseen is why nobody could look from this client.
	Unseen string `json:"unseen,omitempty"`
	// Features is what the client is like: its tags, and what was seen of it.
	Features []string `json:"features,omitempty"`
}

// SweepGroup is the rows of one cause.
type SweepGroup struct {
	Cause     string   `json:"cause"` // "": no cause is known
	Certainty string   `json:"certainty,omitempty"`
	Clients   []string `json:"clients"`
	Endpoints []string `json:"endpoints"`
	Summary   string   `json:"summary"`
	Origin    *Origin  `json:"origin,omitempty"` // nil: no one thing separates them
	// Everybody is that no client reaches any of its endpoints.
	Everybody bool `json:"everybody,omitempty"`
}

// Origin is what the hosts of a cause have in common, and the others do not.
type Origin struct {
	Feature string `json:"feature"` // "image: kiosk-3"
	// With and Of are how many failing hosts have it, of how many; Others and
	// OfOthers, how many working ones.
	With     int `json:"with"`
	Of       int `json:"of"`
	Others   int `json:"others"`
	OfOthers int `json:"of_others"`
	// Chance is how likely so clear a difference is if it has nothing to do with
	// the fault (Fisher's exact test, one-sided, for as many features as there
	// are).
	Chance float64 `json:"chance"`
	// Also is other features that separate them as well.
	Also []string `json:"also,omitempty"`
}
