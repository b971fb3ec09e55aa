// Package look holds what all looks share: what they are given, and how they
// leave facts. A look does input and output and holds no judgement; its own
// failure is a fact too.
package look

import (
	"context"
	"net/netip"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look/file"
	"uakari/internal/program"
)

// Env is what a look is given. Its zero value works.
type Env struct {
	Vantage   string            // the id that facts are left under
	Wait      time.Duration     // longest wait for one connect, and for one resolver
	Resolvers []netip.AddrPort  // instead of the host's own
	HostsFile string            // instead of the system's
	Trust     string            // a file of roots instead of the system's
	Unit      string            // the unit behind the endpoint, if it was said
	Account   string            // that is asked about; of others a log keeps no name
	Programs  *program.Registry // nil: those that are known without the user's own
	Card      *fact.Card
	CardBy    file.Account  // who stands behind the paths of the card
	Each      time.Duration // how long requests side by side go on
	Deep      bool          // look at everything, for a record
	// Settle is how long a connection is watched on which nobody knows who speaks
	// first; 0: long enough for a server that thinks before it closes.
	Settle   time.Duration
	Inside   bool   // in a place whose own programs are not executed
	Secret   string // of the account that is tried; in no fact
	Shared   string // what the client shares with the server beside it; in no fact
	Path     string // of the endpoint, as targets have it
	Whole    string // the same with the secrets in it, if there are any; in no fact
	Identity string // a private key's file, for the same
	// ProxyScript is the file or URL of the script that decides over proxies, if one was given.
	ProxyScript string
	Presented   string // a certificate and its key, CERT[,KEY], that the client presents
	// Lenient is that clients of the endpoint do not check the certificate of
	// its server; AnyName, that they take one of any name; InTheClear, that the
	// secret may be shown all the same where nobody vouches for who reads it.
	Lenient, AnyName, InTheClear bool
	OnlyHidden                   bool             // mechanisms that show the secret to the server are not used
	Probes                       *Probes          // what may still be connected to; nil: all
	Now                          func() time.Time // nil: time.Now
}

// Registry is the server programs that are known to the run.
func (e Env) Registry() *program.Registry {
	if e.Programs != nil {
		return e.Programs
	}
	return program.Known()
}

// Func is one look: it leaves its facts, and what it could not see, by emit.
type Func = func(context.Context, Env, fact.Order, Emit)

// Emit takes one fact as soon as it is seen.
type Emit func(fact.Fact)

// Clock is the time, by the given clock.
func (e Env) Clock() time.Time {
	if e.Now != nil {
		return e.Now()
	}
	return time.Now()
}

// Patience is the longest wait for one connect.
func (e Env) Patience() time.Duration {
	if e.Wait > 0 {
		return e.Wait
	}
	return 4 * time.Second // "host unreachable" comes after 3
}

// stepTime is how long one step of a session is waited for: longer than any
// healthy server pauses.
const stepTime = 6500 * time.Millisecond

// late is what a step is waited for beyond the time of one connect.
const late = 2500 * time.Millisecond

// StepTime is the longest wait for one step of a session: four seconds more
// than the card says that clients wait are enough to know.
func (e Env) StepTime() time.Duration {
	wait := max(stepTime, e.Wait+late)
	if e.Card != nil {
		if limit, err := time.ParseDuration(e.Card.Limit); err == nil {
			wait = max(wait, limit+4*time.Second)
		}
	}
	return wait
}

// settle is long enough for most servers that turn a client away without a word.
const settle = 1200 * time.Millisecond

// SettleTime is how long a bare connection is watched.
func (e Env) SettleTime() time.Duration {
	if e.Settle > 0 {
		return e.Settle
	}
	return settle
}

// Seen begins a fact of one look.
func (e Env) Seen(order fact.Order, source, saw string) fact.Fact {
	return fact.Fact{Vantage: e.Vantage, At: e.Clock().UTC(), Order: order, Source: source, Saw: saw}
}

// Failed is the fact that something could not be looked at.
func (e Env) Failed(order fact.Order, source, what string, err error, needs string) fact.Fact {
	why := Words(err)
	f := e.Seen(order, source, what+": "+why)
	f.Failed = &fact.Failure{What: what, Why: why, Needs: needs}
	return f
}

// margin is kept before a deadline, so that what was seen can still be told.
const margin = 100 * time.Millisecond

// Within is a wait that ends in time to be told before the context's deadline.
func Within(ctx context.Context, wait time.Duration) time.Duration {
	deadline, ok := ctx.Deadline()
	if !ok {
		return wait
	}
	return max(time.Millisecond, min(wait, time.Until(deadline)-margin))
}
