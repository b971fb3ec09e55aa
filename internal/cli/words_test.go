package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"uakari/internal/weigh/catalogue"
)

// banned is words that the style guide (docs/style.md) replaces.
var banned = regexp.MustCompile(
	`(?i)\b(?:whoever|mends?|mended|anew|hence|thus|keeper|for a moment|a moment old|at hand)\b`)

// longSentences is how many sentences have more than 25 words. The number may only fall.
const longSentences = 26

// wordsOf is every text that users read, by its place.
func wordsOf(t *testing.T) map[string]string {
	t.Helper()
	texts := map[string]string{}
	for _, id := range catalogue.CauseIDs() {
		e, _ := catalogue.Explain(id)
		list := []string{e.Title, e.Means, e.Looks, e.Proof, e.Mistaken}
		for _, r := range e.Remedies {
			list = append(list, r.Do, r.Owner, r.Host, r.Risk, r.Undo)
		}
		texts["cause "+id] = strings.Join(list, ". ")
	}
	var walk func(cmd *cobra.Command)
	walk = func(cmd *cobra.Command) {
		texts["help of "+cmd.CommandPath()] = cmd.Short + ". " + cmd.Long + ". " + cmd.Flags().FlagUsages()
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
	}
	walk(newRoot())
	pages, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, page := range append(pages, "../../README.md") {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		if filepath.Base(page) != "style.md" { // it names the words
			texts[page] = string(text)
		}
	}
	return texts
}

// TestWordsAreThoseOfTheTrade goes over the catalogue, the help and the pages: no word that the
// style guide replaces, and no more long sentences than there were.
func TestWordsAreThoseOfTheTrade(t *testing.T) {
	output := regexp.MustCompile("(?s)```.*?```|(?m)^(?:    |\\|).*$") // what programs print is tested there
	end := regexp.MustCompile(`[.:;!?](?:\s|$)|\n\s*\n|\n\s*[-*]`)
	long := 0
	for place, text := range wordsOf(t) {
		if strings.HasSuffix(place, ".md") {
			text = output.ReplaceAllString(text, "")
		}
		for _, found := range banned.FindAllString(text, -1) {
			t.Errorf("%s: %q; docs/style.md has the word for it", place, found)
		}
		for _, sentence := range end.Split(text, -1) {
			if len(strings.Fields(sentence)) > 25 {
				long++
			}
		}
	}
	if long > longSentences {
		t.Errorf("%d sentences have more than 25 words; there were %d", long, longSentences)
	}
	t.Logf("%d sentences have more than 25 words", long)
}
