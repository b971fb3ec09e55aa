package weigh

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"uakari/internal/foreign"
	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
)

// causesInCode is every catalogue identifier that the package's code names.
func causesInCode(t *testing.T) []string {
	var files []string
	for _, pattern := range []string{"*.go", "*/*.go", "../program/*.go"} {
		matches, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, matches...)
	}
	var ids []string
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			lit, ok := n.(*ast.BasicLit)
			if !ok || lit.Kind != token.STRING {
				return true
			}
			id := strings.Trim(lit.Value, `"`)
			rung, name, ok := strings.Cut(id, "/")
			if ok && slices.Contains(trail.Ladder, trail.Rung(rung)) && name != "" {
				ids = append(ids, id)
			}
			return true
		})
	}
	return ids
}

// TestCatalogue sees that every cause in the code is explained in full, and
// every cause explained can be found.
func TestCatalogue(t *testing.T) {
	inCode := causesInCode(t)
	if len(inCode) < 30 {
		t.Fatalf("only %d causes in the code: the search for them is broken", len(inCode))
	}
	for _, id := range inCode {
		e, ok := catalogue.Explain(id)
		if !ok {
			t.Errorf("%s: not in the catalogue", id)
			continue
		}
		for what, text := range map[string]string{"title": e.Title, "means": e.Means, "looks": e.Looks,
			"proof": e.Proof, "mistaken": e.Mistaken} {
			if strings.TrimSpace(text) == "" {
				t.Errorf("%s: no %s", id, what)
			}
		}
		if len(e.Remedies) == 0 {
			t.Errorf("%s: no remedy", id)
		}
		for _, r := range e.Remedies {
			if r.Do == "" || r.Host == "" || r.Owner == "" || r.Risk == "" || r.Undo == "" {
				t.Errorf("%s: a remedy lacks a part: %+v", id, r)
			}
		}
	}
	for _, id := range catalogue.CauseIDs() {
		if !slices.Contains(inCode, id) {
			t.Errorf("%s is explained and never found", id)
		}
	}
	for _, id := range catalogue.CauseIDs() {
		entry, _ := catalogue.Explain(id)
		for _, more := range entry.ToldBy {
			if _, ok := catalogue.Explain(more); !ok || more == id {
				t.Errorf("%s is told by %s, which is not in the catalogue", id, more)
			}
		}
	}
}

// TestRemedyPlaces sees that values from outside are quoted in commands.
func TestRemedyPlaces(t *testing.T) {
	got := catalogue.Remedies(
		"service/stopped",
		catalogue.Values{"unit": "a;reboot", "server": "tidebook", "program": "x", "path": "/x"},
		nil,
	)
	if len(got) != 1 || got[0].Command != "systemctl start 'a;reboot'" || got[0].Undo != "systemctl stop 'a;reboot'" {
		t.Errorf("got %+v", got)
	}
	for in, want := range map[string]string{"": "''", "a b": "'a b'", "it's": `'it'\''s'`,
		"nginx@1.service": "nginx@1.service", "$(x)": "'$(x)'"} {
		if got := foreign.ShellWord(in); got != want {
			t.Errorf("foreign.ShellWord(%q) = %s, want %s", in, got, want)
		}
	}
}
