package foreign

import (
	"encoding/base64"
	"encoding/hex"
	"net/url"
	"reflect"
	"strings"
	"unicode/utf8"
)

// Secrets is what must stand in nothing that is kept or told, in every form in
// which a server may send it back. The zero value hides nothing.
type Secrets struct {
	forms []string
}

// leastShown is how many characters of a secret in a row give it away: more
// than this many are hidden, so that one which was cut off is hidden too.
const leastShown = 4

// trade is words that secrets are made of by people who should not, and that
// the words of servers are full of: alone they give nothing away.
var trade = []string{
	"password",
	"account",
	"login",
	"secret",
	"user",
	"access",
	"denied",
	"authentication",
	"server",
	"connection",
}

// NewSecrets is the secrets that are not empty.
func NewSecrets(secrets ...string) Secrets {
	var s Secrets
	for _, secret := range secrets {
		if secret == "" {
			continue
		}
		for _, form := range []string{secret, CleanTo(secret, len(secret)), Printable(secret), url.QueryEscape(secret),
			url.PathEscape(secret),
			base64.StdEncoding.EncodeToString([]byte(secret)), base64.RawURLEncoding.EncodeToString([]byte(secret)),
			hex.EncodeToString([]byte(secret))} {
			s.forms = append(s.forms, strings.ToLower(form))
		}
	}
	return s
}

// None reports whether there is nothing to hide.
func (s Secrets) None() bool { return len(s.forms) == 0 }

// Hide puts "…" in place of what is of a secret.
func (s Secrets) Hide(text string) string {
	if s.None() || len(text) < leastShown {
		return text
	}
	lower := strings.ToLower(text)
	if len(lower) != len(text) {
		lower = text // letters whose case changes their length: compared as they are
	}
	hidden := make([]bool, len(text))
	any := false
	for _, form := range s.forms {
		least := min(len(form), leastShown+1)
		if len(form) < leastShown {
			least = len(form)
		}
		for at := 0; at+least <= len(lower); at++ {
			n := longest(lower[at:], form, least)
			if n == 0 || n < len(form) && common(lower[at:at+n]) {
				continue
			}
			any = true
			for i := at; i < at+n; i++ {
				hidden[i] = true
			}
			at += n - 1
		}
	}
	if !any {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		if hidden[i] {
			b.WriteRune('…')
			for i < len(text) && (hidden[i] || !utf8.RuneStart(text[i])) {
				i++
			}
			continue
		}
		b.WriteByte(text[i])
		i++
	}
	return b.String()
}

// longest is how much of the beginning of a text stands in a secret, in bytes;
// 0 for less than the least.
func longest(text, secret string, least int) int {
	best := 0
	for from := 0; from+least <= len(secret); from++ {
		n := 0
		for n < len(text) && from+n < len(secret) && text[n] == secret[from+n] {
			n++
		}
		if n >= least && n > best {
			best = n
		}
	}
	return best
}

// common reports whether a piece is of words that any server says.
func common(piece string) bool {
	for _, word := range trade {
		if strings.Contains(word, piece) {
			return true
		}
	}
	return false
}

// HideIn hides secrets in every text within a value that is pointed to.
func (s Secrets) HideIn(value any) {
	if !s.None() {
		s.hideIn(reflect.ValueOf(value).Elem())
	}
}

func (s Secrets) hideIn(v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		if was := v.String(); v.CanSet() {
			if hidden := s.Hide(was); hidden != was {
				v.SetString(hidden)
			}
		}
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			s.hideIn(v.Elem())
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				s.hideIn(v.Field(i))
			}
		}
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return // certificates and tables, which nobody writes secrets into
		}
		for i := range v.Len() {
			s.hideIn(v.Index(i))
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			if value := v.MapIndex(key); value.Kind() == reflect.String {
				v.SetMapIndex(key, reflect.ValueOf(s.Hide(value.String())).Convert(value.Type()))
			}
		}
	}
}
