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
	"fact": 0, "written": 0, "endpoint": 1, "trail": 1, "sheet": 1, "wire": 1, "filter": 1, "card": 2, "casebook": 2,
	"look": 3, "weigh": 3, "vantage": 4, "tell": 4, "trace": 5, "demo": 5, "cli": 6,
}

// pure packages do no input or output and read no clock.
var pure = []string{"fact", "trail", "endpoint", "filter", "weigh", "tell"}

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
	// Looking and judging know nothing of each other.
	if name == "look" && target == "weigh" || name == "weigh" && (target == "look" || target == "wire") {
		t.Errorf("%s: %s must not import %s", path, name, target)
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
