package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"uakari/internal/program"
	"uakari/internal/protocol"
)

// otherwise is where a word is no protocol's and no program's name, or where a contract
// has it, by the file.
var otherwise = map[string]string{
	"fact/access.go":                  "kinds of lists, as facts have them",
	"fact/fact.go":                    "ways to a host, and names of looks",
	"look/host/host.go":               "names of looks",
	"filter/wordtables.go":            "names of ports, as the kernel's tool writes them",
	"redact/words.go":                 "a key of settings",
	"look/clientlib/web.go":           "options of clients",
	"look/host/common/proxyscript.go": "where scripts are fetched from",
	"look/proxyscript/proxyscript.go": "words of an answer",
	"endpoint/forms.go":               "schemes of forms that other programs write",
	"look/host/linux/network.go":      "a kind of link",
	"settingsfile/lines.go":           "a grammar",
	"settingsfile/settingsfile.go":    "grammars",
	"tell/examples.go":                "values of the demo's world",
	"vantage/broker.go":               "the URL of our own broker",
	"weigh/scene/words.go":            "a source of names (nsswitch.conf(5))",
	"weigh/origin.go":                 "a kind of look",
	"weigh/since.go":                  "a kind of look",
	"weigh/settings/proxy.go":         "a kind of machine on the way",
}

// TestNobodyElseNames wants names of protocols and of server programs in the two
// registries alone, and in what speaks and stands in for them.
func TestNobodyElseNames(t *testing.T) {
	names := map[string]bool{}
	for _, p := range protocol.All {
		names[p.Name] = true
		for _, s := range p.Schemes {
			names[s.Name] = true
			for _, alias := range s.Aliases {
				names[alias] = true
			}
		}
	}
	none, err := program.With(nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range none.All() {
		names[p.Name] = true
	}
	for _, transport := range []string{"", "tcp", "udp", "tls"} {
		delete(names, transport)
	}
	used := map[string]bool{}
	filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			t.Fatal(err)
		}
		for _, own := range []string{"protocol", "program", "wire", "demo"} {
			if path == own {
				return filepath.SkipDir
			}
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, path, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if _, is := n.(*ast.ImportSpec); is {
				return false
			}
			lit, is := n.(*ast.BasicLit)
			if !is || lit.Kind != token.STRING {
				return true
			}
			if text, err := strconv.Unquote(lit.Value); err == nil && names[text] {
				if used[filepath.ToSlash(path)] = true; otherwise[filepath.ToSlash(path)] == "" {
					t.Errorf("%s names %s", files.Position(lit.Pos()), text)
				}
			}
			return true
		})
		return nil
	})
	for path := range otherwise {
		if !used[path] {
			t.Errorf("%s names nothing any more", path)
		}
	}
}
