package fact

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
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
	if err == nil && s.Format != Format {
		err = wrongFormat(name, s.Format, Format)
	}
	return s, err
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
