package trail

// Confirmation is what confirm found ("uakari.confirm/1").
type Confirmation struct {
	Format string `json:"format"`
	Works  bool   `json:"works"` // so often in a row as was wanted
	Good   int    `json:"good"`  // tries in a row that worked, of Wanted
	Wanted int    `json:"wanted"`
	Before Trail  `json:"before"`
	Now    Trail  `json:"now"`
	Case   int64  `json:"case,omitempty"`
	Closed bool   `json:"closed"`
	// Standing is the temporary changes of the case that were not undone.
	Standing []string `json:"standing"`
	Differs  []string `json:"differs"` // from before, of what was seen both times
	// Wider is what stopped packets before and does not now; Narrow, the rule
	// that would let this client through and nobody else.
	Wider  []string `json:"wider"`
	Narrow *Remedy  `json:"narrow,omitempty"`
	// Result says why it works or not; Progress, what became of each cause; Given,
	// the options that were given again and replace those of the kept run.
	Result   Confirmed `json:"result"`
	Progress []Became  `json:"progress"`
	Given    []string  `json:"given,omitempty"`
}

// Difference is what differs between two records or runs ("uakari.differ/1").
type Difference struct {
	Format  string    `json:"format"`
	A       string    `json:"a"`
	B       string    `json:"b"`
	Changed []Changed `json:"changed"`
}

// Explained is causes of the catalogue ("uakari.causes/1").
type Explained struct {
	Format string           `json:"format"`
	Causes []ExplainedCause `json:"causes"`
	// Messages is what a text that was given says, and Endpoint the one that it names.
	Messages []ExplainedMessage `json:"messages,omitempty"`
	Endpoint string             `json:"endpoint,omitempty"`
}

// ExplainedMessage is a message that a text holds, and what it means.
type ExplainedMessage struct {
	Says    string   `json:"says"`
	Library string   `json:"library"`
	Means   string   `json:"means"`
	Causes  []string `json:"causes"` // the most frequent first
}

// ExplainedCause is one of them. Places in braces in its remedies are filled by
// what is found.
type ExplainedCause struct {
	ID       string   `json:"id"`
	Title    string   `json:"title"`
	Means    string   `json:"means"`
	Looks    string   `json:"looks"` // from the client
	Proof    string   `json:"proof"`
	Mistaken string   `json:"mistaken"`
	Remedies []Remedy `json:"remedies"`
}

// Checked is what was found wrong with files that people write
// ("uakari.checked/1").
type Checked struct {
	Format string        `json:"format"`
	Files  []CheckedFile `json:"files"`
}

// CheckedFile is one of them. A file that cannot be read as what it should be is
// an error and not among them.
type CheckedFile struct {
	Path    string   `json:"path"`
	Name    string   `json:"name"`
	Doubts  []string `json:"doubts"`
	Differs []string `json:"differs"` // from its hosts, where these were looked at
}

// Build is which program this is ("uakari.version/1").
type Build struct {
	Format  string `json:"format"`
	Version string `json:"version"`
	Go      string `json:"go"`
	System  string `json:"system"` // "linux/amd64"
	// Built is the day of the source that it is built from, "2026-12-01".
	Built string `json:"built,omitempty"`
}

// Recorded is what a host's record holds, and where it was written ("uakari.recorded/1").
type Recorded struct {
	Format     string `json:"format"`
	Host       string `json:"host"`
	File       string `json:"file"`
	Facts      int    `json:"facts"`
	Unseen     int    `json:"unseen"`               // things that could not be looked at
	Incomplete string `json:"incomplete,omitempty"` // why it is not whole
	Baseline   bool   `json:"baseline,omitempty"`   // it was kept as what the host is like while it is well
}

// Story is the chapters of the demo ("uakari.demo/1").
type Story struct {
	Format   string    `json:"format"`
	Chapters []Chapter `json:"chapters"`
}

// Chapter is one of them.
type Chapter struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	// AsTold is that its faults were named and mended as the story has it; nil: it was only
	// listed.
	AsTold *bool `json:"as_told,omitempty"`
}

// Done is what a command did to many things at once ("uakari.done/1").
type Done struct {
	Format string `json:"format"`
	Did    string `json:"did"`   // "handed in", "removed"
	Count  int    `json:"count"` // and how many of them it did it to
	Of     int    `json:"of"`
	// Statements is what somebody else has to run, where the command runs nothing itself.
	Statements []string `json:"statements,omitempty"`
}

// Confirmed is what a row of runs comes to.
type Confirmed string

const (
	ConfirmWorks       Confirmed = "works"
	ConfirmNot         Confirmed = "not"         // something is still in the way, or nobody knows
	ConfirmNoLogin     Confirmed = "no login"    // all up to the login works; the account was not tried
	ConfirmElsewhere   Confirmed = "elsewhere"   // it works from here; the failure was seen from another host
	ConfirmInterrupted Confirmed = "interrupted" // before the row was complete
)

// Became is what became of one cause.
type Became struct {
	State    Fate   `json:"state"`
	ID       string `json:"id"`
	Endpoint string `json:"endpoint"`
	Host     string `json:"host,omitempty"`
	Summary  string `json:"summary"`
}

// Fate is one of them.
type Fate string

const (
	Fixed      Fate = "fixed"
	StillThere Fate = "still there"
	New        Fate = "new"
	NotSeen    Fate = "not checked" // nothing that was seen now speaks of it
)
