package written

import (
	"os"
	"path/filepath"
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
		case want != "" && (err == nil || !strings.HasPrefix(err.Error(), want) || strings.Contains(err.Error(), "\n")):
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
	for at, want := range map[string]string{"$.inner[1].port": "x.yaml:4:11: no", "$.inner[1].other": "x.yaml:4:", "$.inner[9].port": "x.yaml:3:", "$.none": "x.yaml:1:1: no", "$": "x.yaml:1:1: no"} {
		if got := places.Wrong(at, "no").Error(); !strings.HasPrefix(got, want) {
			t.Errorf("%s: %s, want %s", at, got, want)
		}
	}
	if _, err := PlacesOf("x.yaml", []byte("a: [")); err == nil {
		t.Error("broken text is parsed")
	}
}

// TestRead bounds what is read.
func TestRead(t *testing.T) {
	path := filepath.Join(t.TempDir(), "card.yaml")
	if err := os.WriteFile(path, []byte("name: tides\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if text, err := Read(path, "a card", 100); err != nil || string(text) != "name: tides\n" {
		t.Errorf("%q, %v", text, err)
	}
	if _, err := Read(path, "a card", 3); err == nil || !strings.Contains(err.Error(), "12 bytes; a card has at most 3") {
		t.Errorf("%v", err)
	}
	if _, err := Read(path+"x", "a card", 3); !os.IsNotExist(err) {
		t.Errorf("%v", err)
	}
}

// TestDistance is words and how far they are from each other.
func TestDistance(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"", "", 0}, {"port", "port", 0}, {"prot", "port", 1}, {"pot", "port", 1}, {"ports", "port", 1}, {"part", "port", 1}, {"", "port", 4}, {"kitten", "sitting", 3}} {
		if got := Distance(c.a, c.b); got != c.want {
			t.Errorf("%q to %q: %d, want %d", c.a, c.b, got, c.want)
		}
	}
}
