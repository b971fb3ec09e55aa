package redact

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"strings"
	"sync"
)

// marking is the key that values are marked with, as it was handed in.
var marking struct {
	mu   sync.Mutex // guards all
	from func() []byte
	key  []byte
}

// UseKey says where the key of marks comes from: it is asked for once, when the first mark
// is made. The key is random, and stands in no fact, record or case.
func UseKey(from func() []byte) {
	marking.mu.Lock()
	defer marking.mu.Unlock()
	marking.from, marking.key = from, nil
}

// Key is the key of marks; none, if none was handed in.
func Key() []byte {
	marking.mu.Lock()
	defer marking.mu.Unlock()
	if marking.key == nil && marking.from != nil {
		marking.key = marking.from()
	}
	return marking.key
}

// markedBytes is how much of a value's code is its mark.
const markedBytes = 4

// Mark tells values apart that are not kept: a short code of the value with a key (RFC 2104),
// behind the name of that key. Who has no key cannot find even a short value by it. Without
// a key there is no mark.
func Mark(value string) string {
	key := Key()
	if len(key) == 0 {
		return ""
	}
	code := func(text string) string {
		sum := hmac.New(sha256.New, key)
		sum.Write([]byte(text))
		return hex.EncodeToString(sum.Sum(nil)[:markedBytes])
	}
	return code("name of this key") + ":" + code("value "+value)
}

// Comparable reports whether two marks were made with one key, so that they differ only
// where the values do.
func Comparable(one, other string) bool {
	key, _, marked := strings.Cut(one, ":")
	others, _, also := strings.Cut(other, ":")
	return one != "" && other != "" && marked == also && (!marked || key == others)
}
