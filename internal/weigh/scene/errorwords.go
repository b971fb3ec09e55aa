package scene

import (
	"encoding/json"
	"fmt"
	"html"
	"regexp"
	"strings"
	"sync"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/redact"
)

// mostOwnWords bounds what is quoted of an error answer, in characters.
const mostOwnWords = 160

// wordFields is the members of an error in JSON that say what is wrong, the
// fullest first: of RFC 9457 (detail, title), of RFC 6749 (error_description,
// error), and those that most programs use beside them.
var wordFields = []string{"error_description", "detail", "message", "msg", "error", "title", "reason"}

// pageParts is the parts of a page in which one says what is wrong.
var pageParts = sync.OnceValue(func() []*regexp.Regexp {
	return []*regexp.Regexp{
		regexp.MustCompile(`(?is)<title[^>]*>(.*?)</title>`),
		regexp.MustCompile(`(?is)<h1[^>]*>(.*?)</h1>`),
		regexp.MustCompile(`(?is)<p[^>]*>(.*?)</p>`),
		regexp.MustCompile(`(?is)<(?:faultstring|message|detail)[^>]*>(.*?)</`), // of XML, SOAP's among them
	}
})

var tags = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`<[^>]*>`) })

// OwnWords is what an error answer itself says is wrong, cleaned and cut; "" if
// it says no more than its status does.
func OwnWords(r fact.Reply) string {
	text := strings.TrimSpace(r.Text)
	var words []string
	switch start := strings.IndexByte(text, '{'); {
	case start >= 0 && !strings.Contains(text[:start], "<"):
		words = inJSON(text[start:])
	case strings.HasPrefix(text, "<") || strings.Contains(text, "<html"):
		for _, part := range pageParts() {
			if m := part.FindStringSubmatch(text); m != nil {
				words = append(words, html.UnescapeString(tags().ReplaceAllString(m[1], " ")))
			}
		}
	default:
		words = strings.SplitN(text, "\n", 2)[:1]
	}
	var said []string
	for _, w := range words {
		w = strings.Join(strings.Fields(w), " ")
		if w != "" && !saysStatus(w, r) && !strings.Contains(strings.Join(said, " "), w) {
			said = append(said, w)
		}
	}
	return foreign.CleanTo(redact.Said(strings.Join(said, ": ")), mostOwnWords)
}

// saysStatus reports whether words are no more than the status once more.
func saysStatus(words string, r fact.Reply) bool {
	bare := strings.ToLower(strings.Trim(strings.ReplaceAll(words, fmt.Sprint(r.Status), ""), " .:-"))
	return bare == "" || bare == strings.ToLower(r.Reason) || bare == "error" ||
		strings.HasPrefix(bare, strings.ToLower(r.Reason)+" ") && r.Reason != ""
}

// inJSON is the words of an error in JSON; of one that was cut off, none.
func inJSON(text string) []string {
	var body map[string]any
	if json.NewDecoder(strings.NewReader(text)).Decode(&body) != nil {
		return nil
	}
	var words []string
	for _, field := range wordFields {
		switch value := body[field].(type) {
		case string:
			words = append(words, value)
		case map[string]any: // {"error": {"message": …}}
			for _, inner := range wordFields {
				if text, ok := value[inner].(string); ok {
					words = append(words, text)
				}
			}
		}
	}
	const most = 2
	return words[:min(len(words), most)]
}
