package fact

import (
	"strings"
	"testing"
)

// FuzzRecord reads anything as a host's record: an error is one line.
func FuzzRecord(f *testing.F) {
	f.Add(
		[]byte(
			`{"format":"uakari.host/1","host":"tidebook","began":"2026-11-23T03:00:00Z","ended":"2026-11-23T03:00:01Z","facts":[{"id":"","vantage":"","at":"2026-11-23T03:00:00Z","order":{"look":"addresses","target":{}},"source":"a","saw":"b","addresses":{"host":"tidebook","held":[{"prefix":"10.20.0.14/24","link":"eth0","up":true}]}}]}`,
		),
	)
	f.Fuzz(func(t *testing.T, text []byte) {
		if _, err := DecodeRecord("x", text); err != nil && strings.Contains(err.Error(), "\n") {
			t.Errorf("error of two lines: %q", err)
		}
	})
}

// FuzzSet reads anything as a set of facts, and what it takes is whole.
func FuzzSet(f *testing.F) {
	f.Add(
		[]byte(
			`{"format":"uakari.facts/1","ask":{"endpoint":{"input":"x","scheme":"https","host":"x","port":1,"transport":"tcp","security":"tls","verify":true},"began":"2026-11-23T03:00:00Z","wait_ms":1},"vantages":[{"id":"v1","role":"client","host":"a","means":"here"}],"facts":[]}`,
		),
	)
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := DecodeSet("x", text)
		if err == nil && s.Check() != nil {
			t.Error("a set that is none is taken")
		}
		if err != nil && strings.Contains(err.Error(), "\n") {
			t.Errorf("error of two lines: %q", err)
		}
	})
}
