// Command mutants changes one place of the code at a time and runs the tests that should
// notice: comparisons are flipped, guards dropped, strengths raised, roles swapped, bounds
// moved. It prints those that no test noticed. The tree is not touched: the changed file is
// laid over it (go test -overlay).
//
//	mutants [-count N] [-seed N] PACKAGE...
package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

func main() {
	count := flag.Int("count", 46, "how many mutants")
	seed := flag.Uint64("seed", uint64(time.Now().UnixNano()), "which ones")
	flag.Parse()
	if err := run(flag.Args(), *count, *seed); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// mutant is one change of a file: the bytes from one offset to another become a text.
type mutant struct {
	file     string
	line     int
	from, to int // bytes
	text     string
	what     string
}

func run(folders []string, count int, seed uint64) error {
	var list []mutant
	for _, folder := range folders {
		found, err := mutantsOf(folder)
		if err != nil {
			return err
		}
		list = append(list, found...)
	}
	if len(list) == 0 {
		return errors.New("no place to change in these packages")
	}
	source := rand.New(rand.NewPCG(seed, 0))
	source.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	tried, survived := 0, 0
	for _, m := range list {
		if tried == count {
			break
		}
		noticed, err := m.noticed()
		if errors.Is(err, errNoProgram) {
			continue
		}
		if err != nil {
			return err
		}
		if tried++; !noticed {
			survived++
			fmt.Printf("%s:%d: %s\n", m.file, m.line, m.what)
		}
	}
	fmt.Printf("%d of %d survive (seed %d)\n", survived, tried, seed)
	return nil
}

// mutantsOf is every change of the files below a folder.
func mutantsOf(folder string) (list []mutant, err error) {
	err = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		found, err := ofFile(path)
		list = append(list, found...)
		return err
	})
	return list, err
}

// others is what a comparison or a combination is flipped to.
var others = map[token.Token]string{
	token.EQL: "!=", token.NEQ: "==", token.LSS: ">=", token.GEQ: "<", token.GTR: "<=", token.LEQ: ">",
	token.LAND: "||", token.LOR: "&&", token.XOR: "|", token.SHL: ">>", token.SHR: "<<", token.ADD: "-",
	token.SUB: "+",
}

// swaps is names that stand for each other: roles, sides, strengths.
var swaps = map[string]string{
	"Client": "Server", "Server": "Client", "Input": "Output", "Output": "Input",
	"Inferred": "Read", "Hinted": "Inferred", "true": "false", "false": "true",
}

func ofFile(path string) ([]mutant, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	set := token.NewFileSet()
	parsed, err := parser.ParseFile(set, path, text, 0)
	if err != nil {
		return nil, err
	}
	var list []mutant
	add := func(from, to token.Pos, with, what string) {
		at := set.Position(from)
		list = append(list, mutant{path, at.Line, at.Offset, set.Position(to).Offset, with, what})
	}
	ast.Inspect(parsed, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.BinaryExpr:
			if to, ok := others[n.Op]; ok && !ofText(n) {
				add(n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), to, n.Op.String()+" became "+to)
			}
		case *ast.IfStmt:
			if n.Init == nil && n.Else == nil && leaves(n.Body) {
				from, to := set.Position(n.Cond.Pos()).Offset, set.Position(n.Cond.End()).Offset
				add(n.Pos(), n.End(), "", "the guard is gone: if "+string(text[from:to]))
			}
		case *ast.SelectorExpr:
			if to, ok := swaps[n.Sel.Name]; ok {
				add(n.Sel.Pos(), n.Sel.End(), to, n.Sel.Name+" became "+to)
			}
		case *ast.Ident:
			if to, ok := swaps[n.Name]; ok && n.Obj == nil && (n.Name == "true" || n.Name == "false") {
				add(n.Pos(), n.End(), to, n.Name+" became "+to)
			}
		}
		return true
	})
	return list, nil
}

// ofText reports whether texts are put together, which is no sum.
func ofText(e *ast.BinaryExpr) bool {
	found := false
	ast.Inspect(e, func(n ast.Node) bool {
		lit, ok := n.(*ast.BasicLit)
		found = found || ok && lit.Kind == token.STRING
		return !found
	})
	return e.Op == token.ADD && found
}

// leaves reports whether a block ends the function or the turn of a loop.
func leaves(block *ast.BlockStmt) bool {
	if len(block.List) == 0 {
		return false
	}
	switch last := block.List[len(block.List)-1].(type) {
	case *ast.ReturnStmt:
		return true
	case *ast.BranchStmt:
		return last.Tok == token.CONTINUE
	}
	return false
}

// errNoProgram says that what a change leaves is no program.
var errNoProgram = errors.New("does not compile")

// noticed runs the tests with the change, and reports whether they fail. What cannot be
// compiled is errNoProgram.
func (m mutant) noticed() (bool, error) {
	text, err := os.ReadFile(m.file)
	if err != nil {
		return false, err
	}
	dir, err := os.MkdirTemp("", "mutant")
	if err != nil {
		return false, err
	}
	defer os.RemoveAll(dir)
	changed := slices.Concat(text[:m.from], []byte(m.text), text[m.to:])
	file := filepath.Join(dir, "changed.go")
	if err := os.WriteFile(file, changed, 0o600); err != nil {
		return false, err
	}
	whole, err := filepath.Abs(m.file)
	if err != nil {
		return false, err
	}
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {whole: file}})
	if err != nil {
		return false, err
	}
	laid := filepath.Join(dir, "overlay.json")
	if err := os.WriteFile(laid, overlay, 0o600); err != nil {
		return false, err
	}
	args := append([]string{"test", "-overlay", laid, "-count=1", "-failfast", "-timeout=120s", "-vet=off"},
		testsOf(m.file)...)
	out, err := exec.Command("go", args...).CombinedOutput()
	var failed *exec.ExitError
	if err != nil && !errors.As(err, &failed) {
		return false, fmt.Errorf("go %s: %w: %s", strings.Join(args, " "), err, out)
	}
	if bytes.Contains(out, []byte("[build failed]")) || bytes.Contains(out, []byte("[setup failed]")) {
		return false, errNoProgram
	}
	return err != nil, nil
}

// testsOf is the packages whose tests are to notice a change of a file: its own, and for the
// rungs those of the whole judgement.
func testsOf(file string) []string {
	dir := "./" + filepath.ToSlash(filepath.Dir(file))
	if at := strings.Index(dir, "/weigh"); at >= 0 {
		return []string{dir[:at] + "/weigh/..."}
	}
	if strings.Contains(dir, "/filter") {
		return []string{dir, "./internal/weigh/..."}
	}
	return []string{dir}
}
