package session

import (
	"context"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// KeyFile leaves whether SSH clients would use the private key that the user
// named. The key is not read.
func KeyFile(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	if env.Identity == "" {
		return
	}
	k := fact.KeyFile{Path: env.Identity, Wrong: tooOpen(env.Identity), Secret: env.Secret != ""}
	saw := "only its owner may read it"
	if k.Wrong != "" {
		saw = k.Wrong
	}
	f := env.Seen(order, "key file "+env.Identity, saw)
	f.KeyFile = &k
	emit(f)
}
