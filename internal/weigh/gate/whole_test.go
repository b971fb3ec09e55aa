package gate

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestUnsaid has a reading that does not say how strong it is: it is told to who asks for it,
// and proves and opens nothing.
func TestUnsaid(t *testing.T) {
	was := Mistaken
	defer func() { Mistaken = was }()
	mistakes := 0
	Mistaken = func(Reading) { mistakes++ }
	none := func(Reading) []Lack { return nil }
	v := Combine(Ending{Symptom: RefusedByReset}, []Reading{
		{Gate: Listener, Cause: "ports/none-listening", Because: []string{"e1"}},
		{Gate: Name, Because: []string{"e2"}},
	}, none)
	if mistakes != 2 || v.Open&Of(Name) != 0 {
		t.Errorf("%d mistakes, %+v", mistakes, v)
	}
	for _, c := range v.Causes {
		if c.Certainty != trail.Possible {
			t.Errorf("%s is %s", c.Cause, c.Certainty)
		}
	}
}

// TestReadingsAreWhole finds every reading that is made in the code: it says its strength, and
// one that shuts a gate says, in the same place or in the function around it, what shows it.
func TestReadingsAreWhole(t *testing.T) {
	found := 0
	err := filepath.WalkDir("..", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") {
			return err
		}
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, path, nil, 0)
		if err != nil {
			return err
		}
		for _, decl := range file.Decls {
			whole := keysSet(decl)
			ast.Inspect(decl, func(n ast.Node) bool {
				lit, ok := n.(*ast.CompositeLit)
				if !ok || !isReading(file.Name.Name, lit.Type) || len(lit.Elts) == 0 {
					return true
				}
				found++
				said := map[string]bool{}
				for _, e := range lit.Elts {
					if pair, ok := e.(*ast.KeyValueExpr); ok {
						said[pair.Key.(*ast.Ident).Name] = true
					}
				}
				test := strings.HasSuffix(path, "_test.go")
				if !said["Strength"] && !test {
					t.Errorf("%s: a reading that does not say its strength", files.Position(lit.Pos()))
				}
				candidate := strings.HasSuffix(path, "combine.go") // what nobody read has no evidence
				if said["Cause"] && !said["Because"] && !whole["Because"] && !test && !candidate {
					t.Errorf("%s: a reading that does not say what shows it", files.Position(lit.Pos()))
				}
				return true
			})
		}
		return nil
	})
	if err != nil || found < 110 {
		t.Errorf("%d readings were found, %v", found, err)
	}
}

// isReading reports whether a literal's type is a reading.
func isReading(pack string, e ast.Expr) bool {
	switch of := e.(type) {
	case *ast.SelectorExpr:
		x, ok := of.X.(*ast.Ident)
		return ok && x.Name == "gate" && of.Sel.Name == "Reading"
	case *ast.Ident:
		return pack == "gate" && of.Name == "Reading"
	}
	return false
}

// keysSet is the fields that a function sets.
func keysSet(decl ast.Decl) map[string]bool {
	set := map[string]bool{}
	ast.Inspect(decl, func(n ast.Node) bool {
		if assign, ok := n.(*ast.AssignStmt); ok {
			for _, to := range assign.Lhs {
				if field, ok := to.(*ast.SelectorExpr); ok {
					set[field.Sel.Name] = true
				}
			}
		}
		return true
	})
	return set
}
