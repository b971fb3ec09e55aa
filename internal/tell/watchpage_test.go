package tell

import (
	"math"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// TestWatchPage draws each try of a watch, with what failed and what changed, and
// runs nothing.
func TestWatchPage(t *testing.T) {
	at := time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	var tally weigh.Tally
	for i := range 20 {
		p := weigh.Pulse{
			At: at.Add(time.Duration(i) * 10 * time.Second), Outcome: trail.OutcomeClear, Addr: "10.20.0.14",
			ConnectMS: 1, AnswerMS: float64(i),
			Marks: map[string]string{"holder of the port": "tidebook, pid 7"},
		}
		if i > 4 && i < 8 {
			p.Outcome, p.Why = trail.OutcomeFault, "nothing listens </script><script>alert(1)"
			p.Marks["holder of the port"] = "nobody"
		}
		tally.Add(p)
	}
	page, err := WatchPage("https://tidebook.varzea.example/", tally, at)
	if err != nil {
		t.Fatal(err)
	}
	for want, count := range map[string]int{
		`class="dot-good"`: 17, `class="late" d="M`: 3, `class="limit" d="M`: 2,
		"holder of the port: nobody, was tidebook, pid 7": 1,
		"it works again": 1, "20 tries, 3 failed, at most 3 in a row": 2,
		"<td data-head=\"address\">10.20.0.14</td>": 1, "<script": 0,
	} {
		if got := strings.Count(page, want); got != count {
			t.Errorf("%q stands %d times; expected %d", want, got, count)
		}
	}
	if _, err := WatchPage("tidebook:443", weigh.Tally{}, at); err != nil {
		t.Errorf("a watch without a try: %v", err)
	}
}

// TestContrast wants every colour of the pages to be read on their papers: at least
// 4.5 to 1 (WCAG 2.2, 1.4.3), in the light, in the dark and printed.
func TestContrast(t *testing.T) {
	css, err := pageFile.ReadFile("style.css")
	if err != nil {
		t.Fatal(err)
	}
	set := regexp.MustCompile(`--([a-z]+): (#[0-9a-f]{3,6});`)
	themes := 0
	for _, block := range regexp.MustCompile(`:root \{[^}]*\}`).FindAllString(string(css), -1) {
		colours := map[string]float64{}
		for _, m := range set.FindAllStringSubmatch(block, -1) {
			colours[m[1]] = luminance(t, m[2])
		}
		themes++
		for _, paper := range []string{"paper", "box"} {
			for _, ink := range []string{"ink", "soft", "bad", "good", "odd"} {
				a, b := max(colours[ink], colours[paper]), min(colours[ink], colours[paper])
				if ratio := (a + 0.05) / (b + 0.05); ratio < 4.5 {
					t.Errorf("theme %d: %s on %s: %.1f to 1", themes, ink, paper, ratio)
				}
			}
		}
	}
	if themes != 3 {
		t.Errorf("%d themes; expected light, dark and print", themes)
	}
}

// luminance is the relative luminance of a colour (WCAG 2.2).
func luminance(t *testing.T, colour string) float64 {
	t.Helper()
	digits := colour[1:]
	if len(digits) == 3 {
		digits = string([]byte{digits[0], digits[0], digits[1], digits[1], digits[2], digits[2]})
	}
	n, err := strconv.ParseUint(digits, 16, 32)
	if err != nil {
		t.Fatal(err)
	}
	sum := 0.0
	for i, weight := range []float64{0.2126, 0.7152, 0.0722} {
		c := float64(n>>(16-8*i)&0xff) / 255
		if c <= 0.04045 {
			c /= 12.92
		} else {
			c = math.Pow((c+0.055)/1.055, 2.4)
		}
		sum += weight * c
	}
	return sum
}

// TestWrapped is words in lines of some columns, with a sign where some are left out.
func TestWrapped(t *testing.T) {
	for text, want := range map[string]string{
		"fails": "fails", "the rule is in place": "the rule is|in place", "": "",
		"one two three four five six seven eight nine ten": "one two|three four|five six …",
		"tidebook.varzea.example is up":                    "tidebook.varz…|is up",
	} {
		if got := strings.Join(wrapped(text, 12, 3), "|"); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}
