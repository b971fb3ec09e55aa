package service

import (
	"fmt"
	"strings"
	"time"

	"uakari/internal/foreign"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// flappingTime is how lately a unit must have been started again for its
// restarts to be about now.
const flappingTime = 10 * time.Minute

// shutIn is the most files of a process that was kept from opening any on purpose, as
// sshd's are that speak to strangers (setrlimit(2)): no server works with so few.
const shutIn = 8

// up reads a service that holds its port: whether it serves, and whether it
// will go on.
func (s serving) up() []gate.Reading {
	var readings []gate.Reading
	stuck := s.t.Symptom == gate.ServerFirstSilent || s.t.Symptom == gate.ClientFirstSilent ||
		s.t.Symptom == gate.Connects || s.t.Symptom.Silent()
	for _, r := range s.p.Here() {
		if (stuck || s.t.Symptom == gate.ServerFirstClosed || s.t.Symptom == gate.ClientFirstClosed) &&
			r.Limit > shutIn && r.Files >= r.Limit {
			starved := s.reading(
				gate.Room,
				"service/starved",
				fmt.Sprintf("%s (pid %d) has %d files open and may have no more", s.p.Name, r.PID, r.Files),
			)
			starved.Shows = []gate.Symptom{
				gate.SilentTCP,
				gate.ServerFirstSilent,
				gate.ClientFirstSilent,
				gate.ServerFirstClosed,
				gate.ClientFirstClosed,
				gate.Connects,
			}
			readings = append(readings, starved)
		}
		if s.t.Symptom != gate.Fine && s.t.Symptom != gate.NotTried && r.State == "T" {
			halted := s.hung(fmt.Sprintf("%s (pid %d) is halted: its process is stopped by a signal", s.p.Name, r.PID))
			if !stuck && !gate.Symptoms[s.t.Symptom].Open.Has(gate.Room) {
				halted.Reach = gate.Further // ours did not get so far
			}
			readings = append(readings, halted)
		}
	}
	if r, ok := s.openedSince(); ok && len(readings) == 0 {
		readings = append(readings, r)
	}
	if r, ok := s.muteToItself(); ok && len(readings) == 0 {
		readings = append(readings, r)
	}
	if q := s.v.Unread(s.t); s.keptWaiting(q) && stuck && s.t.Symptom != gate.SilentTCP && !s.t.Climb.Hasty() {
		what := fmt.Sprintf("%s takes no connections: %s waiting", scene.Owner(q.Listener), waiting(q.Queue))
		if q.Transport == "udp" {
			what = fmt.Sprintf("%s reads no datagrams: %d bytes wait", scene.Owner(q.Listener), q.Queue)
		}
		r := s.hung(what)
		if !q.Lasting {
			r.Strength = gate.Inferred
			r.Lacks = append(r.Lacks, gate.Lack{
				Guard: gate.OneMeaning, Why: "its queue was read once; a second reading would show that none is taken",
			})
		}
		// A socket of datagrams is there before its program begins to read; one that
		// takes connections has said that it does.
		if young, ok := s.young(); ok && q.Transport == "udp" {
			r.Cause, r.Strength = "service/starting", gate.Inferred
			r.Summary = fmt.Sprintf("%s started %s ago and does not serve yet: %s",
				s.p.Name, foreign.Span(young), what)
		}
		readings = append(readings, r)
	}
	harmless := func(cause, summary string) {
		r := s.reading(gate.Listener, cause, summary)
		r.Harmless, r.Rests.Changing = true, true
		readings = append(readings, r)
	}
	for _, log := range s.p.Logs {
		fresh, err := time.ParseDuration(log.Stale)
		if age := s.f.At.Sub(log.Changed); err == nil && age > fresh {
			harmless(
				"service/stale-log",
				fmt.Sprintf(
					"%s was last written %s ago; the card wants it every %s",
					log.Path,
					foreign.Span(age),
					foreign.Span(fresh),
				),
			)
		}
	}
	u := s.u
	if u == nil || u.Active != "active" || strings.HasSuffix(u.Name, ".socket") {
		return readings
	}
	if s.flapping() {
		harmless("service/restarting", fmt.Sprintf("%s runs now, and ends again and again: %s", u.Name, restarts(u)))
	}
	if u.Enabled == "disabled" && len(u.Sockets) == 0 {
		harmless("service/not-enabled", u.Name+" runs now and will not start by itself after a reboot")
	}
	return readings
}

// young is how long ago a program was started that may still be preparing itself.
func (s serving) young() (time.Duration, bool) {
	here := s.p.Here()
	if len(here) == 0 || here[0].Since.IsZero() {
		return 0, false
	}
	age := s.v.Ask.Began.Sub(here[0].Since)
	return max(age, 0), age < preparingTime
}

// flapping reports whether a unit was restarted again and again, the last time
// a little while ago.
func (s serving) flapping() bool {
	return s.u.Active != "failed" && s.u.Restarts > 1 && s.v.Ask.Began.Sub(s.u.Since) < flappingTime
}

// justNow is how long the outcome of a start may not show.
const justNow = 5 * time.Second

// startedAgain reports whether the manager started a unit again a moment ago.
func (s serving) startedAgain() bool {
	return s.u.Active == "active" && s.u.Restarts > 0 && s.v.Ask.Began.Sub(s.u.Since) < justNow
}

func waiting(n uint32) string {
	if n == 1 {
		return "1 is"
	}
	return fmt.Sprintf("%d are", n)
}

// hung is the reading of a service that lives and serves nobody.
func (s serving) hung(summary string) gate.Reading {
	r := s.reading(gate.Room, "service/hung", summary)
	r.Shows = []gate.Symptom{gate.ServerFirstSilent, gate.ClientFirstSilent, gate.SilentTCP, gate.Connects}
	return r
}

// muteToItself reads a service that its own host connects to, and that says
// nothing there either.
func (s serving) muteToItself() (gate.Reading, bool) {
	own := s.t.Sessions
	sym := own.Symptom(nil)
	if !s.t.OwnTry || own.Hasty() || sym != gate.ServerFirstSilent && sym != gate.ClientFirstSilent {
		return gate.Reading{}, false
	}
	r := s.hung(fmt.Sprintf("%s takes a connection of its own host too, and says nothing", s.p.Name))
	r.Strength, r.Reach, r.Because = gate.Inferred, gate.Further, gate.Union(r.Because, own.IDs())
	return r, true
}

// keptWaiting reports whether what is in the queue was not taken while ours went without an
// answer; of connections one look is a hint too, since a program that serves takes them at once.
func (s serving) keptWaiting(q scene.Queued) bool {
	return q.Lasting || q.Waits && !q.Twice && q.Transport != "udp"
}
