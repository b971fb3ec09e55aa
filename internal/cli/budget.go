package cli

import (
	"fmt"
	"net/netip"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// loginBudget is the one try of an account at a server that a run of this program
// has, over all its endpoints, clients and repeats, and how many were rejected
// lately in other runs.
type loginBudget struct {
	presented map[string]bool
	at        map[string][]netip.AddrPort // by the account
}

// loginServer is the server that an endpoint names, as far as logins count.
func loginServer(e fact.Endpoint) string { return endpoint.HostPort(e.Host, e.Port) }

func (b *loginBudget) logins() casebook.Logins {
	folder, err := casebook.Folder()
	if err != nil || !hasBook() {
		return casebook.LoginsIn("")
	}
	return casebook.LoginsIn(folder)
}

// bound is an ask whose account is presented no more often than it may be.
func (b *loginBudget) bound(cmd *cobra.Command, ask fact.Ask) fact.Ask {
	if ask.Withhold == "" {
		ask.Withhold = b.withhold(cmd, ask)
	}
	ask.TriedAt = b.at[ask.Account]
	return ask
}

// withhold is why the account of an endpoint must not be presented; "" if it may be.
func (b *loginBudget) withhold(cmd *cobra.Command, ask fact.Ask) string {
	if ask.Account == "" {
		return ""
	}
	server := loginServer(ask.Endpoint)
	if b.presented[server+"\x00"+ask.Account] {
		return "it was tried at " + server + " in this run, and one try in all is enough: accounts lock"
	}
	count, tooMany, err := b.logins().Refused(server, ask.Account, time.Now())
	if err != nil {
		b.told(cmd, err)
	}
	if tooMany {
		return fmt.Sprintf("%s rejected it %d times in the last ten minutes; another try may lock it", server, count)
	}
	return ""
}

// spend remembers that a run put its account before a server.
func (b *loginBudget) spend(cmd *cobra.Command, set fact.Set) {
	if !set.Presented() {
		return
	}
	if b.presented == nil {
		b.presented, b.at = map[string]bool{}, map[string][]netip.AddrPort{}
	}
	server, account := loginServer(set.Ask.Endpoint), set.Ask.Account
	accepted := false
	for _, f := range set.Facts {
		if f.Login != nil && f.Login.Outcome.Tried() {
			accepted = accepted || f.Login.Outcome == fact.LoginAccepted
			b.at[account] = append(b.at[account], netip.AddrPortFrom(f.Order.Target.Addr, f.Order.Target.Port))
		}
	}
	b.presented[server+"\x00"+account] = true
	if err := b.logins().Add(server, account, accepted, time.Now()); err != nil {
		b.told(cmd, err)
	}
}

func (b *loginBudget) told(cmd *cobra.Command, err error) {
	fmt.Fprintf(cmd.ErrOrStderr(), "uakari: login tries are not counted beyond this run: %s\n",
		foreign.Printable(err.Error()))
}
