package vantage

import (
	"bytes"
	"context"
	"io"
	"strings"
	"testing"
	"time"
)

// FuzzServe is anything that the other end may say to the program over there.
// Orders of looks that do not exist are answered, and nothing is looked at.
func FuzzServe(f *testing.F) {
	f.Add([]byte("{\"n\":1,\"order\":{\"look\":\"none\",\"target\":{}}}\n"))
	f.Add([]byte("{\"n\":1}\n"))
	f.Fuzz(func(t *testing.T, orders []byte) {
		if bytes.Contains(orders, []byte("look")) && !bytes.Contains(orders, []byte(`"none"`)) {
			return // the fuzzer must not look at this host
		}
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		Serve(ctx, "tidebook", false, io.MultiReader(strings.NewReader("{\"version\":1}\n"), bytes.NewReader(orders)),
			io.Discard)
	})
}
