package cli

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"uakari/internal/program"
	"uakari/internal/protocol"
	"uakari/internal/wire"
)

// between puts lines between two marks of a page.
func between(t *testing.T, page, mark, lines string) string {
	t.Helper()
	before, rest, ok := strings.Cut(page, "<!-- "+mark+" -->\n")
	_, after, closed := strings.Cut(rest, "<!-- end -->")
	if !ok || !closed {
		t.Fatalf("docs/programs.md has no place for %s", mark)
	}
	return before + "<!-- " + mark + " -->\n" + lines + "<!-- end -->" + after
}

// TestProgramsPage is that the page lists what the registries hold.
func TestProgramsPage(t *testing.T) {
	const path = "../../docs/programs.md"
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	programs := "| program | is | serves | |\n|---|---|---|---|\n"
	for _, p := range program.Known().All() {
		var serves []string
		for _, s := range protocol.Schemes {
			if port, ok := p.Serves[s.Name]; ok && port != 0 {
				serves = append(serves, fmt.Sprintf("%s %d", s.Name, port))
			} else if ok {
				serves = append(serves, s.Name)
			}
		}
		tried := ""
		if p.Tried {
			tried = "tried"
		}
		programs += fmt.Sprintf("| %s | %s | %s | %s |\n", p.Name, p.About, strings.Join(serves, ", "), tried)
	}
	protocols := "| scheme | port | |\n|---|---|---|\n"
	for _, s := range protocol.Schemes {
		name := strings.Join(append([]string{s.Name}, s.Aliases...), ", ")
		port := "must be given"
		if s.Port != 0 {
			port = fmt.Sprintf("%d/%s", s.Port, s.Transport())
		}
		does := []string{"connects only"}
		if w, ok := wire.Protocols[s.Wire]; ok && s.Wire != "" {
			does = []string{"asks " + s.Wire}
			if w.Upgrade != nil {
				does = append(does, "TLS within")
			}
		}
		if wire.Logins[s.Wire] != nil || s.Wire == "ssh" {
			does = append(does, "logs in")
		}
		protocols += fmt.Sprintf("| %s | %s | %s |\n", name, port, strings.Join(does, " + "))
	}
	want := between(t, between(t, string(text), "programs", programs), "protocols", protocols)
	if want == string(text) {
		return
	}
	if !*update {
		t.Fatal("docs/programs.md lists something else than the registries hold; make man writes it again")
	}
	if err := os.WriteFile(path, []byte(want), 0o644); err != nil {
		t.Fatal(err)
	}
}
