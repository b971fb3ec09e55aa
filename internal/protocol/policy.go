package protocol

import "slices"

// Policy is a setting of Windows by which its servers refuse some of what clients try.
type Policy struct {
	Key, Name string   // of a value in HKEY_LOCAL_MACHINE
	Values    []string // with which it holds
	Says      string   // what then holds: "LDAP must be signed or encrypted"
	// Refuses is the refusals of an account that it is the reason of.
	Refuses []Code
	// Shuts is that nothing listens while it holds.
	Shuts bool
}

// Place is where the setting stands.
func (p Policy) Place() string { return `HKLM\` + p.Key + `\` + p.Name }

// Policies is those about endpoints of a scheme.
func Policies(scheme string) []Policy { return listing(scheme).Policies }

// HostAccountsOn is the system on which accounts of a scheme are the host's own.
func HostAccountsOn(scheme string) string { return listing(scheme).HostAccountsOn }

// listing is the protocol that lists a scheme, by which another may carry it.
func listing(scheme string) *Protocol {
	at := slices.IndexFunc(All, func(p *Protocol) bool {
		return slices.ContainsFunc(p.Schemes, func(s Scheme) bool { return s.Name == scheme })
	})
	if at < 0 {
		return &bare
	}
	return All[at]
}
