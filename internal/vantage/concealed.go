package vantage

import (
	"context"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// Looker is a host that can be looked at.
type Looker interface {
	Info() fact.Vantage
	Look(ctx context.Context, order fact.Order, emit func(fact.Fact))
}

// Concealed is a host of whose facts none holds a secret of the run, whoever
// repeated it: a server, its log, or the settings of a program.
func Concealed(v Looker, secrets foreign.Secrets) Looker {
	if secrets.None() {
		return v
	}
	return concealed{v, secrets}
}

type concealed struct {
	Looker
	secrets foreign.Secrets
}

// Look takes the look and hides secrets in what it leaves. What was asked for
// stays as it was asked.
func (c concealed) Look(ctx context.Context, order fact.Order, emit func(fact.Fact)) {
	c.Looker.Look(ctx, order, func(f fact.Fact) {
		asked, at := f.Order, f.Vantage
		c.secrets.HideIn(&f)
		f.Order, f.Vantage = asked, at
		emit(f)
	})
}
