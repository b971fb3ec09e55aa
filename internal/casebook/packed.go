package casebook

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"

	"uakari/internal/fact"
)

// mostFacts bounds the facts of one run, in bytes of JSON.
const mostFacts = 64 << 20

// packed is facts as they are kept: JSON, compressed (RFC 1952). No facts are nil.
func packed(set *fact.Set) ([]byte, error) {
	if set == nil {
		return nil, nil
	}
	text, err := json.Marshal(set)
	if err != nil {
		return nil, err
	}
	if len(text) > mostFacts {
		return nil, fmt.Errorf("the facts of this run are %d bytes, and more than %d are not kept", len(text),
			mostFacts)
	}
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	if _, err := w.Write(text); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// unpacked is facts as they were kept, compressed or, by earlier versions, not.
// Name is how an error calls them.
func unpacked(name string, kept []byte) (*fact.Set, error) {
	if bytes.HasPrefix(kept, []byte{0x1f, 0x8b}) {
		r, err := gzip.NewReader(bytes.NewReader(kept))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if kept, err = io.ReadAll(io.LimitReader(r, mostFacts+1)); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if len(kept) > mostFacts {
			return nil, fmt.Errorf("%s: more than %d bytes", name, mostFacts)
		}
	}
	set, err := fact.DecodeSet(name, kept)
	return &set, err
}
