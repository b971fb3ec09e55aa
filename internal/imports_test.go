// Package internal holds no code: this test watches over the packages below.
package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// floors is who stands on whom: a package imports only those of lower floors.
var floors = map[string]int{
	"foreign": 0, "paste": 0,
	"redact": 1, "owned": 0, "fact": 0, "yamlfile": 0, "protocol": 1, "endpoint": 2, "trail": 2,
	"sheet": 2,
	"wire":  3, "message": 3,
	"filter": 2, "settingsfile": 1, "program": 3, "card": 3, "casebook": 3, "plan": 3, "confirm": 3,
	"look": 4, "weigh": 4, "vantage": 5, "tell": 5, "trace": 6, "demo": 6, "sweep": 6, "cli": 7,
}

// pure packages do no input or output and read no clock.
var pure = []string{
	"foreign",
	"paste",
	"redact",
	"fact",
	"trail",
	"confirm",
	"protocol",
	"endpoint",
	"filter",
	"settingsfile",
	"program",
	"sheet",
	"plan",
	"message",
	"weigh",
	"tell",
}

// forbidden is what they must not import.
var forbidden = []string{"os", "os/exec", "net", "net/http", "syscall", "crypto/tls", "golang.org/x/sys/unix", "log"}

// clocks are the functions that a pure package must not call.
var clocks = []string{"Now", "Since", "Until", "Sleep", "After", "AfterFunc", "NewTimer", "NewTicker", "Tick"}

func TestImports(t *testing.T) {
	seen := map[string]bool{}
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		name, _, _ := strings.Cut(filepath.ToSlash(path), "/")
		seen[name] = true
		own, known := floors[name]
		if !known {
			t.Errorf("%s: package %s has no floor", path, name)
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		for _, spec := range file.Imports {
			checkImport(t, path, name, own, spec)
		}
		if slices.Contains(pure, name) {
			checkClock(t, path, file)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for name := range floors {
		if !seen[name] {
			t.Errorf("floor of %s, which does not exist", name)
		}
	}
}

func checkImport(t *testing.T, path, name string, own int, spec *ast.ImportSpec) {
	t.Helper()
	imported, err := strconv.Unquote(spec.Path.Value)
	if err != nil {
		t.Fatal(err)
	}
	if slices.Contains(pure, name) && slices.Contains(forbidden, imported) {
		t.Errorf("%s: a pure package imports %s", path, imported)
	}
	below, ours := strings.CutPrefix(imported, "uakari/internal/")
	if !ours {
		return
	}
	target, _, _ := strings.Cut(below, "/")
	floor, known := floors[target]
	if !known || target != name && floor >= own {
		t.Errorf("%s: %s must not import %s", path, name, target)
	}
	checkWithin(t, path, name, target, below)
	// Looking and judging know nothing of each other.
	if name == "look" && target == "weigh" || name == "weigh" && (target == "look" || target == "wire") {
		t.Errorf("%s: %s must not import %s", path, name, target)
	}
}

// within is the floors inside of a package: of weighing, what gates and scenes
// know lies below the rungs, and no rung knows another.
var within = map[string]map[string]int{
	"weigh": {
		"catalogue": 0,
		"gate":      1,
		"scene":     2,
		"settings":  3,
		"service":   3,
		"ports":     3,
		"rules":     3,
		"names":     3,
		"certs":     3,
		"login":     3,
		"answer":    3,
		"":          4,
	},
}

func checkWithin(t *testing.T, path, name, target, below string) {
	t.Helper()
	rooms, ok := within[name]
	if !ok || target != name {
		return
	}
	room := func(p string) string {
		parts := strings.Split(p, "/")
		if len(parts) < 2 || strings.HasSuffix(parts[1], ".go") {
			return ""
		}
		return parts[1]
	}
	own, known := rooms[room(filepath.ToSlash(path))]
	other, also := rooms[room(below)]
	if !known || !also || other >= own {
		t.Errorf("%s: %s must not import %s", path, room(filepath.ToSlash(path)), below)
	}
}

// TestCertainty sees that nobody but the gate decides how certain a cause is.
func TestCertainty(t *testing.T) {
	err := filepath.WalkDir("weigh", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.HasPrefix(path, filepath.Join("weigh", "gate")) {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.AssignStmt:
				for _, to := range n.Lhs {
					if sel, ok := to.(*ast.SelectorExpr); ok &&
						slices.Contains([]string{"Certainty", "Blocking"}, sel.Sel.Name) {
						t.Errorf("%s: writes %s", path, sel.Sel.Name)
					}
				}
			case *ast.CompositeLit:
				if sel, ok := n.Type.(*ast.SelectorExpr); ok && sel.Sel.Name == "Judged" {
					t.Errorf("%s: makes a cause of its own", path)
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

func checkClock(t *testing.T, path string, file *ast.File) {
	t.Helper()
	ast.Inspect(file, func(n ast.Node) bool {
		sel, ok := n.(*ast.SelectorExpr)
		if !ok {
			return true
		}
		if pkg, ok := sel.X.(*ast.Ident); ok && pkg.Name == "time" && slices.Contains(clocks, sel.Sel.Name) {
			t.Errorf("%s: a pure package reads the clock: time.%s", path, sel.Sel.Name)
		}
		return true
	})
}
