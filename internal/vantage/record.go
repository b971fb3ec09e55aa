package vantage

import (
	"context"
	"errors"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// Carried is a host that is looked at through its record.
type Carried struct {
	info   fact.Vantage
	record fact.HostRecord
}

// NewCarried looks at a record in a role.
func NewCarried(id string, role fact.Role, record fact.HostRecord) *Carried {
	return &Carried{
		fact.Vantage{
			ID:     id,
			Role:   role,
			Host:   record.Host,
			Means:  fact.Record,
			Ended:  record.Ended,
			System: systemOf(record),
		},
		record,
	}
}

// systemOf is what a host runs, by its own word.
func systemOf(record fact.HostRecord) string {
	for _, f := range record.Facts {
		if f.Identity != nil {
			return f.Identity.System
		}
	}
	return ""
}

// Info says which vantage this is.
func (c *Carried) Info() fact.Vantage { return c.info }

// Look answers from what the record holds.
func (c *Carried) Look(_ context.Context, order fact.Order, emit func(fact.Fact)) {
	order.Target.Apart = false // a record was made for one endpoint, and says which
	found := c.matching(order)
	if len(found) == 0 && order.Look == fact.LookAccount && order.Target.Account != "" {
		found = c.noAccount(order.Target.Account)
	}
	for _, f := range found {
		f.Vantage, f.Order = c.info.ID, order
		emit(f)
	}
	if len(found) == 0 {
		env := look.Env{Vantage: c.info.ID}
		f := env.Failed(order, "record of "+c.record.Host, "could not see it", errors.New("it is not in this record"),
			"a record made with --for the same endpoint")
		f.At = c.record.Ended
		emit(f)
	}
}

// noAccount is the fact that there is no account of a name, where the record
// holds all that there are.
func (c *Carried) noAccount(name string) []fact.Fact {
	for _, f := range c.record.Facts {
		if f.Order.Look == fact.LookAccount && f.Order.Target.Account == "" && f.Account != nil {
			none := *f.Account
			none.Name = name
			f.Account = &none
			return []fact.Fact{f}
		}
	}
	return nil
}

// matching is the facts that answer an order. A list of all listeners stands
// in for one that was made for the port.
func (c *Carried) matching(order fact.Order) []fact.Fact {
	var found, general []fact.Fact
	for _, f := range c.record.Facts {
		switch {
		case !answersOrder(f, order):
		case f.Order.Look == fact.LookListeners && f.Order.Target.Port != order.Target.Port:
			general = append(general, f)
		default:
			found = append(found, f)
		}
	}
	if len(found) == 0 {
		return general
	}
	return found
}

// answersOrder reports whether a fact of a record answers a look. What a host
// says of itself does not depend on what was asked; what it sees of a target
// does.
func answersOrder(f fact.Fact, order fact.Order) bool {
	if f.Order.Look != order.Look {
		return false
	}
	switch order.Look {
	case fact.LookNames, fact.LookSettings, fact.LookSigns:
		return f.Order.Target.Name == order.Target.Name
	case fact.LookService, fact.LookPeers:
		return f.Order.Target.Port == order.Target.Port
	case fact.LookAccount, fact.LookPathRight:
		return f.Order.Target.Account == order.Target.Account && f.Order.Target.Path == order.Target.Path
	case fact.LookMetadata:
		return f.Order.Target.Path == order.Target.Path
	case fact.LookStored, fact.LookServices, fact.LookReverse:
		return f.Order.Target == order.Target
	case fact.LookListeners:
		return f.Order.Target.Port == 0 ||
			f.Order.Target.Port == order.Target.Port && f.Order.Target.Scheme == order.Target.Scheme
	case fact.LookSession, fact.LookEcho, fact.LookRoute, fact.LookLink, fact.LookHops, fact.LookReset,
		fact.LookOffers:
		return f.Order.Target == order.Target
	}
	return true
}
