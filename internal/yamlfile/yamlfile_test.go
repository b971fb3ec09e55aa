package yamlfile

import (
	"fmt"
	"strings"
	"testing"
)

type inner struct {
	Port uint16 `yaml:"port"`
}

type sample struct {
	Name    string   `yaml:"name"`
	Program string   `yaml:"program"`
	Inner   []inner  `yaml:"inner"`
	Again   *sample  `yaml:"again"`
	List    []string `yaml:"list"`
}

// TestDecode is text that does not fit, and where that is said to be.
func TestDecode(t *testing.T) {
	for text, want := range map[string]string{
		"name: tides\ninner:\n  - port: 80\n": "",
		"name: tides\nprogam: x\n":            `card.yaml:2:1: unknown field "progam"; did you mean "program"?`,
		"inner:\n  - prot: 80\n":              `card.yaml:2:5: unknown field "prot"; did you mean "port"?`,
		"nothing-like-it: x\n":                `card.yaml:1:1: unknown field "nothing-like-it"`,
		"inner:\n  - port: many\n":            "card.yaml:2:11:",
		"name: [1\n":                          "card.yaml:1:",
		"- a\n- b\n":                          "card.yaml:1:",
	} {
		var s sample
		err := Decode("card.yaml", []byte(text), &s)
		switch {
		case want == "" && err != nil:
			t.Errorf("%q: %v", text, err)
		case want != "" && (err == nil || !strings.HasPrefix(err.Error(), want) ||
			strings.Contains(err.Error(), "\n")):
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

// TestPlaces finds where a value stands, or what is around it.
func TestPlaces(t *testing.T) {
	places, err := PlacesOf("x.yaml", []byte("name: tides\ninner:\n  - port: 80\n  - port: 81\n"))
	if err != nil {
		t.Fatal(err)
	}
	for at, want := range map[string]string{"$.inner[1].port": "x.yaml:4:11: no", "$.inner[1].other": "x.yaml:4:",
		"$.inner[9].port": "x.yaml:3:", "$.none": "x.yaml:1:1: no", "$": "x.yaml:1:1: no"} {
		if got := places.Wrong(at, "no").Error(); !strings.HasPrefix(got, want) {
			t.Errorf("%s: %s, want %s", at, got, want)
		}
	}
	if _, err := PlacesOf("x.yaml", []byte("a: [")); err == nil {
		t.Error("broken text is parsed")
	}
}

// TestSane refuses what costs more than it says, and nothing that people write.
func TestSane(t *testing.T) {
	laughs := "a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n"
	for i := 1; i < 9; i++ {
		laughs += fmt.Sprintf(
			"a%d: &a%d [*a%d, *a%d, *a%d, *a%d, *a%d, *a%d, *a%d, *a%d, *a%d, *a%d]\n",
			i,
			i,
			i-1,
			i-1,
			i-1,
			i-1,
			i-1,
			i-1,
			i-1,
			i-1,
			i-1,
			i-1,
		)
	}
	stairs := ""
	for i := range 200 {
		stairs += strings.Repeat(" ", i) + "a:\n"
	}
	for name, text := range map[string]string{
		"brackets": "a: " + strings.Repeat("[", 1<<19), "braces": strings.Repeat("{a: ", 1<<17),
		"dashes": strings.Repeat("- ", 1<<19), "questions": strings.Repeat("? ", 1<<19), "stairs": stairs,
		"aliases": laughs,
	} {
		var into map[string]any
		err := Decode("x.yaml", []byte(text), &into)
		if err == nil || !strings.HasPrefix(err.Error(), "x.yaml:") ||
			!strings.Contains(err.Error(), "a person would write") {
			t.Errorf("%s: %v", name, err)
		}
	}
	var into map[string]any
	for _, text := range []string{"a: [1, [2, {b: c}]]\n- x", "a: '[[[['\nb: &x 1\nc: *x\n",
		"a:\n  - b:\n      - c: 1\n"} {
		if err := Decode("x.yaml", []byte(text), &into); err != nil && strings.Contains(err.Error(), "a person") {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// TestDistance is words and how far they are from each other.
func TestDistance(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"", "", 0}, {"port", "port", 0}, {"prot", "port", 1}, {"pot", "port", 1}, {"ports", "port", 1},
		{"part", "port", 1}, {"", "port", 4}, {"kitten", "sitting", 3}} {
		if got := Distance(c.a, c.b); got != c.want {
			t.Errorf("%q to %q: %d, want %d", c.a, c.b, got, c.want)
		}
	}
}
