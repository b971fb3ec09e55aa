package fact

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
)

// mostKept bounds a kept file, in bytes.
const mostKept = 64 << 20

// TooLarge is the error of a kept file beyond all measure.
func TooLarge(name string, size int64) error {
	if size <= mostKept {
		return nil
	}
	return fmt.Errorf("%s: %d bytes; such a file has at most %d", name, size, mostKept)
}

// DecodeSet reads a kept set; name stands in errors, with line and column.
func DecodeSet(name string, text []byte) (Set, error) {
	var s Set
	err := decode(name, text, &s, "a file that trace --facts wrote")
	switch {
	case err != nil:
	case s.Format != Format:
		err = wrongFormat(name, s.Format, Format)
	default:
		if bad := s.Check(); bad != nil {
			err = fmt.Errorf("%s:1:1: %w", name, bad)
		}
	}
	s.memo = &sync.Map{}
	return s, err
}

// Check finds what makes a set no set: whoever weighs it relies on what was
// asked, on vantages with names of their own, and on facts with ids of theirs.
func (s Set) Check() error {
	switch {
	case s.Format != Format:
		return fmt.Errorf("format %q; expected %q", s.Format, Format)
	case s.Ask.Endpoint.Host == "" || s.Ask.Endpoint.Port == 0:
		return errors.New("a set of facts without the endpoint that was asked for")
	case len(s.Vantages) == 0:
		return errors.New("a set of facts of no vantage")
	}
	vantages, ids := map[string]bool{}, map[string]bool{}
	for _, v := range s.Vantages {
		if v.ID == "" || vantages[v.ID] {
			return fmt.Errorf("vantage %q is there twice, or has no id", v.ID)
		}
		vantages[v.ID] = true
	}
	for _, f := range s.Facts {
		if f.ID == "" || ids[f.ID] || !vantages[f.Vantage] {
			return fmt.Errorf("fact %q is there twice, has no id, or is of no vantage of the set", f.ID)
		}
		ids[f.ID] = true
	}
	for _, hop := range s.Behind {
		if err := hop.Set.Check(); err != nil {
			return err
		}
	}
	return nil
}

// DecodeRecord reads a host record likewise.
func DecodeRecord(name string, text []byte) (HostRecord, error) {
	var r HostRecord
	err := decode(name, text, &r, "a file that uakari record wrote")
	if err == nil && r.Format != HostFormat {
		err = wrongFormat(name, r.Format, HostFormat)
	}
	return r, err
}

func wrongFormat(name, got, want string) error {
	return fmt.Errorf("%s:1:1: format %q; expected %q", name, got, want)
}

func decode(name string, text []byte, into any, want string) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	err := d.Decode(into)
	if err == nil {
		if _, err = d.Token(); errors.Is(err, io.EOF) {
			return nil
		}
		err = errors.New("something follows the end")
	}
	line, column := placeOf(text, d.InputOffset(), err)
	return fmt.Errorf("%s:%d:%d: %s; expected %s", name, line, column, strings.TrimPrefix(err.Error(), "json: "), want)
}

// placeOf is the line and column of a JSON error.
func placeOf(text []byte, offset int64, err error) (line, column int) {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		offset = int64(len(text))
	case errors.As(err, &syntax):
		offset = syntax.Offset
	case errors.As(err, &kind):
		offset = kind.Offset
	}
	before := text[:min(max(offset, 0), int64(len(text)))]
	return bytes.Count(before, []byte("\n")) + 1, len(before) - bytes.LastIndexByte(before, '\n')
}
