package casebook

import "testing"

// FuzzCase reads anything as a case that is taken over: what is taken has
// entries that can be told.
func FuzzCase(f *testing.F) {
	f.Add(
		[]byte(
			`{"id":1,"uid":"x","title":"t","endpoint":"https://tidebook.varzea.example/","opened":"2026-11-23T03:00:00Z","entries":[{"number":1,"at":"2026-11-23T03:00:00Z","kind":"note","text":"x"}]}`,
		),
	)
	f.Fuzz(func(t *testing.T, line []byte) {
		c, err := decodeCase(line)
		if err != nil {
			return
		}
		c.Standing()
		for _, e := range c.Traces() {
			if e.Set.Check() != nil {
				t.Error("a set that is none is taken")
			}
		}
	})
}
