//go:build linux

package linux

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/jcmturner/gokrb5/v8/keytab"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
)

// KeyTable leaves which keys this host's services hold for tickets: their
// names, versions and kinds. The keys stay where they are.
func KeyTable(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	path := strings.TrimPrefix(os.Getenv("KRB5_KTNAME"), "FILE:")
	if path == "" {
		path = "/etc/krb5.keytab"
	}
	table, err := readKeyTable(path)
	saw := fmt.Sprintf("%d keys", len(table.Entries))
	switch {
	case errors.Is(err, os.ErrNotExist):
		table.Absent, saw = true, "there is none"
	case err != nil:
		emit(env.Failed(order, path, "could not read the key table", err, "root"))
		return
	}
	f := env.Seen(order, path, saw)
	f.KeyTable = &table
	emit(f)
}

func readKeyTable(path string) (t fact.KeyTable, err error) {
	defer func() {
		if recover() != nil { // of the library, over a broken file
			err = errors.New("it is broken")
		}
	}()
	t = fact.KeyTable{Path: path, Entries: []fact.KeyEntry{}}
	text, err := file.Head(path, common.MostSettings)
	if err != nil {
		return t, err
	}
	var table keytab.Keytab
	if err := table.Unmarshal(text); err != nil {
		return t, err
	}
	const most = 500
	for _, e := range table.Entries[:min(len(table.Entries), most)] {
		t.Entries = append(
			t.Entries,
			fact.KeyEntry{
				Principal:  strings.Join(e.Principal.Components, "/") + "@" + e.Principal.Realm,
				Version:    int(e.KVNO),
				Encryption: int(e.Key.KeyType),
			},
		)
	}
	return t, nil
}
