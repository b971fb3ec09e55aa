package card

import (
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	c, err := Parse(
		"tidebook.yaml",
		[]byte(
			"format: uakari.card/1\nname: tidebook\nendpoint: https://tidebook.varzea.example/\naliases: "+
				"[readings.varzea.example]\nunit: tidebook.service\nprogram: tidebook\n",
		),
	)
	if err != nil || c.Name != "tidebook" || len(c.Aliases) != 1 || c.Unit != "tidebook.service" {
		t.Errorf("got %+v, %v", c, err)
	}
	for text, want := range map[string]string{
		"":                        `tidebook.yaml:1:1: format ""; expected "uakari.card/1"`,
		"format: uakari.card/1\n": "the card has no name",
		"format: uakari.card/1\nname: a\nalias: " +
			"b\n": `tidebook.yaml:3:1: `,
		"format: uakari.card/1\nname: " +
			"[a\n": "tidebook.yaml:2:",
		"format: uakari.card/1\nname: {a: " +
			"b}\n": "tidebook.yaml:2:",
		"format: uakari.card/1\nname: a\naccount:\n  rights:\n    - {may: SELEKT, on: " +
			"readings.levels}\n": `tidebook.yaml:5:13: "SELEKT"; expected one of SELECT`,
		"format: uakari.card/1\nname: a\naccount:\n  rights: [{may: SELECT, on: view " +
			"x}]\n": `"view x"; expected readings.levels, schema readings`,
		"format: uakari.card/1\nname: a\naccount:\n  rights: [{may: write, on: " +
			"/srv/tides}]\n": `"write"; expected read, of a path`,
		"format: uakari.card/1\nname: a\nclient-tls: [TLS " +
			"1.4]\n": `expected one of TLS 1.0`,
		"\t- x": "tidebook.yaml:1:",
	} {
		if _, err := Parse("tidebook.yaml", []byte(text)); err == nil || !strings.Contains(err.Error(), want) ||
			strings.Contains(err.Error(), "\n") {
			t.Errorf("%q: got %v, want %q", text, err, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("format: uakari.card/1\nname: tidebook\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if _, err := Parse("x.yaml", text); err != nil && strings.Contains(err.Error(), "\n") {
			t.Errorf("error of two lines: %q", err)
		}
	})
}
