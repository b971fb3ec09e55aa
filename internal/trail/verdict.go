package trail

import (
	"fmt"
	"slices"
	"strings"
)

// Sign is a mark of health that the card names, and whether it was found.
type Sign struct {
	Host  string    `json:"host"`
	What  string    `json:"what"`  // "/var/log/tidebook/upload.log"
	State SignState `json:"state"` // "met", "fails", "unseen"
	Saw   string    `json:"saw,omitempty"`
}

// SignState is what was found of a sign.
type SignState string

const (
	SignMet    SignState = "met"
	SignFails  SignState = "fails"
	SignUnseen SignState = "unseen" // it could not be read; Saw says why
)

// Judge is the one place that decides outcome and reached. came is how the
// client's own try ended; blocked, that a cause keeps the client out; untried,
// that something which was asked for was not tried. The pairs that it gives are
// (clear, yes), (fault, no), (unsure, no) and (unsure, unknown), and no other.
func Judge(came Reached, blocked, untried bool) (Outcome, Reached) {
	switch {
	case blocked:
		return OutcomeFault, No
	case came == No:
		return OutcomeUnsure, No
	case came == Yes && !untried:
		return OutcomeClear, Yes
	}
	return OutcomeUnsure, Unknown
}

// Verdict is what a trail comes to: its headline is of this kind.
type Verdict uint8

const (
	Works        Verdict = iota // what was asked for was tried, and answered
	Connects                    // a bare port takes the connection; nothing can be asked of it
	Unhealthy                   // it answers, and the card's signs of health are not met
	NotAccepted                 // it answers, and the account is rejected
	WrongAnswer                 // it is reached, and the answer is an error or another's
	OwnProgram                  // this try gets there, the client's own program goes elsewhere
	LeadsNowhere                // it answers, and what it leads to is not reached
	Blocked                     // something keeps the client out
	Unexplained                 // it does not work, and nothing that was seen proves why
	PartTried                   // what was tried works, and not everything that was asked for was tried
	NotKnown
)

// Verdict follows from outcome, reached and causes alone.
func (t Trail) Verdict() Verdict {
	switch {
	case t.Outcome == OutcomeClear && t.connectsOnly():
		return Connects
	case t.Outcome == OutcomeClear:
		return Works
	case t.Outcome == OutcomeFault:
		return t.faultKind()
	case t.Reached == No:
		return Unexplained
	case len(t.Untried) > 0 && t.answered():
		return PartTried
	}
	return NotKnown
}

// Status is the exit status of a verdict: 0 only if everything that was asked
// for was tried and works.
func (v Verdict) Status() int {
	switch v {
	case Works, Connects:
		return 0
	case Unexplained, PartTried, NotKnown:
		return 3
	}
	return 1
}

// promised are the causes of what a card or sheet promises and is not so: a
// sign that is not met, a client in no declared range. The client may well connect.
var promised = []string{"settings/not-received", "service/stale-log", "rules/out-of-scope"}

// faultKind tells faults of what answers from those that keep the client out.
func (t Trail) faultKind() Verdict {
	kinds := map[Verdict]bool{}
	for _, c := range t.Blocking() {
		rung, _, _ := strings.Cut(c.ID, "/")
		switch {
		case slices.Contains(promised, c.ID):
			kinds[Unhealthy] = true
		case rung == string(Settings) && t.Answers:
			kinds[OwnProgram] = true
		case (rung == string(Rules) || rung == string(Ports)) && t.Answers:
			kinds[LeadsNowhere] = true // a port that the answer names
		case rung == string(Login):
			kinds[NotAccepted] = true
		case rung == string(Answer):
			kinds[WrongAnswer] = true
		default:
			return Blocked
		}
	}
	if !t.Answers && !t.answered() {
		return Blocked
	}
	for _, kind := range []Verdict{LeadsNowhere, NotAccepted, OwnProgram, WrongAnswer, Unhealthy} {
		if kinds[kind] {
			return kind
		}
	}
	return Blocked
}

// answered reports whether nothing is in the way below the login, as far as was
// asked for.
func (t Trail) answered() bool {
	return !slices.ContainsFunc(t.Rungs, func(f Finding) bool {
		lower := f.Name == Ports || f.Name == Rules || f.Name == Service
		sign := f.State == Fault && slices.ContainsFunc(t.Blocking(), func(c Cause) bool {
			return c.Rung == f.Name && slices.Contains(promised, c.ID)
		})
		return lower && f.State != Clear && f.State != Doubt && f.Summary != NotAsked && !sign
	})
}

// connectsOnly reports whether the endpoint does not say what to ask.
func (t Trail) connectsOnly() bool {
	return slices.ContainsFunc(t.Rungs, func(f Finding) bool {
		return f.Name == Answer && f.Summary == OnlyConnects
	})
}

// Headline is the first line: the client, the endpoint and what it comes to.
func (t Trail) Headline(client, goal string) string {
	switch t.Verdict() {
	case Works:
		return fmt.Sprintf("Yes: %s reaches %s%s.", client, goal, t.got())
	case Connects:
		return fmt.Sprintf("Connects: %s to %s; no question asked.", client, goal)
	case Unhealthy:
		return fmt.Sprintf("No: %s connects, but the application is not healthy%s.", client, t.signCount())
	case NotAccepted:
		return fmt.Sprintf("No: %s reaches %s, but is not let in.", client, goal)
	case WrongAnswer:
		return fmt.Sprintf("No: %s reaches %s, and it answers wrongly.", client, goal)
	case OwnProgram:
		return fmt.Sprintf("No: %s can reach %s, but its own program does not reach it.", client, goal)
	case LeadsNowhere:
		return fmt.Sprintf("No: %s reaches %s, but not the port that it leads to.", client, goal)
	case Blocked:
		return fmt.Sprintf("No: %s cannot reach %s.", client, goal)
	case Unexplained:
		return fmt.Sprintf("No: %s cannot reach %s; nothing seen proves why.", client, goal)
	case PartTried:
		return fmt.Sprintf("Not known: %s connects to %s; not tried: %s.", client, goal, strings.Join(t.Untried, ", "))
	}
	return fmt.Sprintf("Not known: whether %s reaches %s.", client, goal)
}

// signCount is how many of the card's signs are not met: "2 of 2 signs fail".
func (t Trail) signCount() string {
	fails := 0
	for _, s := range t.Signs {
		if s.State == SignFails {
			fails++
		}
	}
	switch fails {
	case 0:
		return ""
	case 1:
		return fmt.Sprintf(": 1 of %d signs fails", len(t.Signs))
	}
	return fmt.Sprintf(": %d of %d signs fail", fails, len(t.Signs))
}

// got is what came: the answer or, of an account that was tried, that it was
// accepted.
func (t Trail) got() string {
	text := ""
	for _, f := range t.Rungs {
		if f.State == Clear && (f.Name == Login || f.Name == Answer && text == "") {
			text = ": " + f.Summary
		}
	}
	return text
}
