package fact

import (
	"net/netip"
	"slices"
	"time"
)

// Ask is what the administrator asked for. Everything that decides a
// judgement is in it, so that a kept set needs nothing else.
type Ask struct {
	Endpoint Endpoint  `json:"endpoint"`
	Began    time.Time `json:"began"`
	Command  string    `json:"command,omitempty"` // the command line, to be repeated
	// Error is the message that the user's client shows, as it was given.
	Error string `json:"error,omitempty"`
	// Program is the program that the client runs, if that was said: "curl".
	Program string `json:"program,omitempty"`
	// Suspect is a rung or a cause of which it is asked whether it is that.
	Suspect string `json:"suspect,omitempty"`
	Account string `json:"account,omitempty"`
	// Withhold is why the account is not presented in this run: it was tried before.
	Withhold  string           `json:"withhold,omitempty"`
	TriedAt   []netip.AddrPort `json:"tried_at,omitempty"` // where the account was presented before, in this run
	Shared    bool             `json:"shared,omitempty"`   // a secret was given that client and server share
	Unit      string           `json:"unit,omitempty"`
	Card      *Card            `json:"card,omitempty"`
	Programs  []ProgramFile    `json:"programs,omitempty"` // the user's own
	Sheets    []Sheet          `json:"sheets,omitempty"`
	Only      []string         `json:"only,omitempty"`      // rungs; empty: all
	Resolvers []netip.AddrPort `json:"resolvers,omitempty"` // instead of the host's own
	WaitMS    float64          `json:"wait_ms"`             // longest wait for one connect
	IdleS     int              `json:"idle_s,omitempty"`    // seconds that a connection is left idle; 0: none is
	Widths    []int            `json:"widths,omitempty"`    // of requests side by side; none: nothing is tried so
}

// ProgramFile is a file of the user's own that says what is known of a server
// program.
type ProgramFile struct {
	Path string `json:"path"`
	Text string `json:"text"`
}

// Endpoint is what the client tries to reach, as parsed.
type Endpoint struct {
	Input     string   `json:"input"`
	Scheme    string   `json:"scheme"`
	Assumed   bool     `json:"assumed,omitempty"` // the scheme was not given but taken from the port
	Host      string   `json:"host"`              // in ASCII form; exactly as typed if Stray is not empty
	Port      uint16   `json:"port"`
	Transport string   `json:"transport"` // "tcp" or "udp"
	Security  Security `json:"security"`
	Path      string   `json:"path,omitempty"` // values of parameters that are secret are "…" in it
	Verify    bool     `json:"verify"`         // clients of this endpoint check its certificate
	// Insist is that clients go without TLS in no case; AnyName, that they take
	// a certificate of any name.
	Insist  bool `json:"insist,omitempty"`
	AnyName bool `json:"any_name,omitempty"`
	// Way is by which settings of the client's own library the try is made; nil for none.
	Way *ClientWay `json:"way,omitempty"`

	// Stray lists characters that have no place in a host name and cannot
	// be seen, or look like another; Clean is the host without them.
	Stray []Stray `json:"stray,omitempty"`
	Clean string  `json:"clean,omitempty"`
	// Whole is the path with what is "…" in Path; it is kept nowhere.
	Whole string `json:"-"`
}

// Stray is one stray character.
type Stray struct {
	At   int    `json:"at"`   // the character's place in the input, counted from 1
	Code string `json:"code"` // "U+200B"
	Name string `json:"name"` // "zero-width space"
}

// Barred says why the account of a run must not be presented to a target; "" if
// it may be. A secret goes to the endpoint that was typed and to no other, at an
// address that was typed or that the client's own look-up of the typed name
// gave: what a record, a card, a service record or a redirect says moves none.
func (s Set) Barred(t Target) string {
	e := s.Ask.Endpoint
	switch {
	case s.Ask.Withhold != "":
		return s.Ask.Withhold
	case slices.Contains(s.Ask.TriedAt, netip.AddrPortFrom(t.Addr, t.Port)):
		return "it was tried at this address in this run, and one try in all is enough: accounts lock"
	case len(e.Stray) > 0 || t.Name != e.Host || t.Port != e.Port || t.Scheme != e.Scheme || t.Security != e.Security:
		return "this is not the endpoint that was typed, and an account is shown to no other"
	case !s.gave(e.Host, t.Addr):
		return "the client's own look-up did not give this address"
	}
	return ""
}

// Presented reports whether an account was put before the server in this run.
func (s Set) Presented() bool {
	return slices.ContainsFunc(s.Facts, func(f Fact) bool { return f.Login != nil && f.Login.Outcome.Tried() })
}

// gave reports whether the client's own look-up of a name gave an address. An
// address that was typed stands for itself.
func (s Set) gave(name string, addr netip.Addr) bool {
	if typed, err := netip.ParseAddr(name); err == nil {
		return typed == addr
	}
	client := ""
	for _, v := range s.Vantages {
		if v.Role == Client {
			client = v.ID
			break
		}
	}
	return slices.ContainsFunc(s.Facts, func(f Fact) bool {
		return f.Vantage == client && f.Order.Look == LookNames && f.Order.Target.Name == name &&
			(f.Answer != nil && slices.Contains(f.Answer.Addrs, addr) || f.HostsFile != nil &&
				slices.Contains(f.HostsFile.Addrs, addr) ||
				f.System != nil && slices.Contains(f.System.Addrs, addr))
	})
}
