package foreign

import (
	"encoding/base64"
	"strings"
	"testing"
)

// TestHide is a secret that a server sends back, whole, cut off, and changed
// as servers and this program change text.
func TestHide(t *testing.T) {
	const secret = "Slack\twater-5%"
	s := NewSecrets(secret, "")
	for name, text := range map[string]string{
		"whole": "wrong: " + secret, "cut off": "wrong: Slack\twate", "its end": "ater-5% is wrong",
		"made printable": "wrong: Slack water-5%", "shown": "wrong: Slack<U+0009>water-5%",
		"in a URL": "GET /?p=Slack%09water-5%25", "in base64": "AUTH " +
			base64.StdEncoding.EncodeToString([]byte(secret)), "in other letters": "WRONG: SLACK\tWATER-5%",
	} {
		got := s.Hide(text)
		if strings.Contains(strings.ToLower(got), "water") || strings.Contains(got, "c2xhY2") ||
			strings.Contains(got, "ater-") ||
			!strings.Contains(got, "…") {
			t.Errorf("%s: %q", name, got)
		}
	}
	for _, text := range []string{"password authentication failed", "", "Várzea", "wat"} {
		if got := s.Hide(text); got != text {
			t.Errorf("%q became %q", text, got)
		}
	}
	if got := NewSecrets("password1").Hide("password authentication failed for user \"gauge\""); !strings.HasPrefix(
		got,
		"password authentication",
	) {
		t.Errorf("the words of the trade are hidden: %q", got)
	}
	if got := NewSecrets("abc").Hide("it is abc"); got != "it is …" {
		t.Errorf("a short one: %q", got)
	}
	type inner struct{ Text string }
	v := struct {
		List []inner
		Map  map[string]string
		At   *inner
	}{[]inner{{secret}}, map[string]string{"a": secret}, &inner{secret}}
	s.HideIn(&v)
	if v.List[0].Text != "…" || v.Map["a"] != "…" || v.At.Text != "…" {
		t.Errorf("%+v", v)
	}
}
