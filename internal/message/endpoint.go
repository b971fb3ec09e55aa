package message

import (
	"regexp"
	"strings"

	"uakari/internal/endpoint"
)

// Where a text names the server that was asked.
var (
	ofURL = regexp.MustCompile(`\b([a-z][a-z0-9+.-]*://[^\s'"<>()\]]+)`)
	// `server at "ledger" (10.20.0.20), port 5432`, "connect to host pier port 22"
	ofPort = regexp.MustCompile(
		`(?i)(?:host|server at|server|connect to)\s+["']?([a-z0-9][a-z0-9.-]*|\[[0-9a-f:]+\])["']?(?:\s+\([0-9a-f.:]+\))?,?` +
			`\s+port:?\s+(\d{1,5})`)
	ofPair = regexp.MustCompile(`(?:^|[\s'"@(\[=])([A-Za-z0-9][A-Za-z0-9.-]*[A-Za-z0-9]|\[[0-9a-fA-F:]+\]):(\d{1,5})(?:$|[\s'")\],.;:/])`)
)

// Endpoint is the endpoint that a text names, as it would be typed; "" for none. Found is what
// was found in it, and tells which protocol was spoken.
func Endpoint(text string, found []Found) string {
	if m := ofURL.FindStringSubmatch(text); m != nil {
		url := strings.TrimRight(m[1], ".,;:")
		if _, err := endpoint.Parse(url); err == nil {
			return url
		}
	}
	for _, pattern := range []*regexp.Regexp{ofPort, ofPair} {
		for _, m := range pattern.FindAllStringSubmatch(text, -1) {
			host := strings.ToLower(m[1])
			if strings.Trim(host, "0123456789") == "" { // a time of day
				continue
			}
			scheme := "" // the port may say it
			apart := func(r rune) bool { return strings.ContainsRune(" :\n/", r) }
			for word := range strings.FieldsFuncSeq(text, apart) {
				if s, ok := tools[word]; ok {
					scheme = s
				}
			}
			for _, f := range found {
				if f.scheme != "" {
					scheme = f.scheme
				}
			}
			typed := host + ":" + m[2]
			if scheme != "" {
				typed = scheme + "://" + typed
			}
			if parses(typed) {
				return typed
			}
		}
	}
	return ""
}

func parses(typed string) bool {
	_, err := endpoint.Parse(typed)
	return err == nil
}
