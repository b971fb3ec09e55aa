// Package logon says what the state of an account of Windows means, as the system's
// calls give it. It asks no system: it was written from the documented form, and tried
// on values of that form alone.
package logon

import (
	"strings"
	"time"

	"uakari/internal/fact"
)

// State is an account as NetUserGetInfo, NetUserGetLocalGroups and
// LsaEnumerateAccountRights give it (lmaccess.h, ntsecapi.h).
type State struct {
	Flags uint32
	// Ends is seconds since 1970; Never for an account that does not end. Whole says
	// that it and Expired were read, which take more than every system gives.
	Ends    uint32
	Expired uint32 // of the password: 0 or not
	Whole   bool
	Groups  []string
	// Rights is the rights of the account and of its groups; nil if they could not be
	// read.
	Rights []string
}

// Never is the end of an account that has none (TIMEQ_FOREVER).
const Never = 0xffffffff

// Flags of an account (UF_ACCOUNTDISABLE, UF_LOCKOUT, UF_PASSWD_NOTREQD).
const (
	disabled = 0x2
	locked   = 0x10
)

// Fill tells an account's state.
func (s State) Fill(a *fact.Account) {
	a.Known, a.Shadow = true, true
	a.Locked = s.Flags&locked != 0
	a.Disabled = s.Flags&disabled != 0
	if s.Whole && s.Ends != Never {
		a.Ends = time.Unix(int64(s.Ends), 0).UTC()
	}
	a.MustChange = s.Whole && s.Expired != 0
	a.Groups, a.Rights = s.Groups, s.Rights
}

// Local is the name of an account without the host's own before it; ours is false for one
// that another host or a domain keeps ("VARZEA\\gauge").
func Local(account, host string) (name string, ours bool) {
	before, after, found := strings.Cut(account, `\`)
	if !found {
		return account, true
	}
	return after, before == "." || strings.EqualFold(before, host)
}

// RefusesNTLM reports whether a host takes no account that proves itself by NTLM, by its
// setting RestrictReceivingNTLMTraffic: 2 refuses all, 1 those of a domain.
func RefusesNTLM(setting string) bool { return setting == "2" }
