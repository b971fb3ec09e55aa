package session

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/trust"
)

// Trust leaves the roots of this client by which a chain would be judged that nobody was
// shown yet: those whose subjects the order names.
func Trust(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	var names [][]byte
	for each := range strings.SplitSeq(order.Target.Issuers, ",") {
		name, err := base64.StdEncoding.DecodeString(each)
		if err != nil {
			emit(env.Failed(order, fact.TrustStore, "could not read which roots are wanted", err, ""))
			return
		}
		names = append(names, name)
	}
	path := order.Target.Trust
	if path == "" && env.Trust == "" && env.Card != nil {
		path = env.Card.ClientTrust
	}
	if path == "" {
		path = env.Trust
	}
	store, err := trust.Load(path)
	if unread(env, order, err, emit) {
		return
	}
	presents := env.Presented != "" || env.Card != nil && env.Card.ClientCertificate != ""
	tellTrust(env, order, store, fact.Trust{Roots: store.Named(names), Presents: presents}, emit)
}

// unread leaves that a trust store could not be read, and reports whether it could not.
func unread(env look.Env, order fact.Order, err error, emit look.Emit) bool {
	if errors.Is(err, trust.ErrNone) { // what that means depends on what looks
		f := env.Seen(order, fact.TrustStore, "none in any of the usual places")
		f.Trust = &fact.Trust{Source: "none", None: true}
		emit(f)
	}
	if err != nil {
		emit(env.Failed(order, fact.TrustStore, "could not read the client's trust store", err,
			"a readable file for --trust"))
	}
	return err != nil
}

func tellTrust(env look.Env, order fact.Order, store *trust.Store, t fact.Trust, emit look.Emit) {
	t.Source, t.Count = store.Source, store.Count()
	f := env.Seen(order, fact.TrustStore+" "+store.Source,
		fmt.Sprintf("%d of %d roots could vouch for the chain", len(t.Roots), t.Count))
	f.Trust = &t
	emit(f)
}
