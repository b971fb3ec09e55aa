// Package paste writes data as text that survives a console, a chat or a screen: compressed
// (RFC 1951), in lines of 76 columns, each with its number and a checksum, so that a line that
// was lost or changed is named.
//
// It is pure: no input or output, no clock.
package paste

import (
	"bytes"
	"compress/flate"
	"encoding/base64"
	"fmt"
	"hash/crc32"
	"io"
	"regexp"
	"strconv"
	"strings"
	"sync"
)

// Bounds on what is read, in bytes.
const (
	perLine = 66 // characters of a line's data: 76 with its number and checksum
	most    = 64 << 20
)

// Lines around the data. What stands between the marks is for people.
const (
	begin = "-----BEGIN UAKARI "
	end   = "-----END UAKARI "
	close = "-----"
)

// Write writes data as such text, under a title ("RECORD tidebook 2026-12-01T03:00:00Z").
func Write(title string, data []byte) (string, error) {
	var packed bytes.Buffer
	w, err := flate.NewWriter(&packed, flate.BestCompression)
	if err != nil {
		return "", err
	}
	if _, err := w.Write(data); err != nil {
		return "", err
	}
	if err := w.Close(); err != nil {
		return "", err
	}
	text := base64.StdEncoding.EncodeToString(packed.Bytes())
	var b strings.Builder
	fmt.Fprintf(&b, "%s%s%s\n", begin, title, close)
	number := 0
	for len(text) > 0 {
		part := text[:min(perLine, len(text))]
		text = text[len(part):]
		number++
		fmt.Fprintf(&b, "%04d %s %s\n", number, sum(number, part), part)
	}
	fmt.Fprintf(&b, "%s%d LINES%s\n", end, number, close)
	return b.String(), nil
}

// sum is the checksum of a line, which its number is part of.
func sum(number int, part string) string {
	return fmt.Sprintf("%04x", crc32.ChecksumIEEE([]byte(strconv.Itoa(number)+" "+part))&0xffff)
}

var (
	dataLine = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?:^|[^0-9A-Za-z+/])(\d{4,6}) ([0-9a-f]{4}) ([A-Za-z0-9+/=]{1,66})\s*$`)
	})
	endLine = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(end + `(\d{1,6}) LINES` + close) })
)

// Is reports whether a text holds data that was written so, whatever stands around it.
func Is(text []byte) bool { return bytes.Contains(text, []byte(begin)) }

// Read finds the data in a text. Prompts, quotes and blanks around the lines do not matter,
// nor do lines that come twice. An error names the lines that are missing or damaged.
func Read(text []byte) ([]byte, error) {
	_, after, ok := bytes.Cut(text, []byte(begin))
	if !ok {
		return nil, fmt.Errorf("no line %q", begin+"…")
	}
	parts, damaged, last := map[int]string{}, map[int]bool{}, 0
	for line := range strings.Lines(string(after)) {
		line = strings.TrimRight(line, "\r\n")
		if m := endLine().FindStringSubmatch(line); m != nil {
			last, _ = strconv.Atoi(m[1]) // digits alone
			break
		}
		m := dataLine().FindStringSubmatch(line)
		if m == nil {
			continue // of whatever it came through
		}
		number, _ := strconv.Atoi(m[1])
		if sum(number, m[3]) != m[2] {
			damaged[number] = true
			continue
		}
		parts[number] = m[3]
	}
	if last == 0 {
		return nil, fmt.Errorf("the last line, %q, is missing", end+"…")
	}
	var whole strings.Builder
	var wrong []string
	for number := 1; number <= last; number++ {
		part, ok := parts[number]
		switch {
		case ok:
			whole.WriteString(part)
		case damaged[number]:
			wrong = append(wrong, fmt.Sprintf("line %04d is damaged", number))
		default:
			wrong = append(wrong, fmt.Sprintf("line %04d is missing", number))
		}
	}
	if n := len(wrong); n > 0 {
		const named = 5
		if n > named {
			wrong = append(wrong[:named], fmt.Sprintf("and %d more", n-named))
		}
		return nil, fmt.Errorf("%s; paste these lines once more, anywhere before the last one", strings.Join(wrong, ", "))
	}
	packed, err := base64.StdEncoding.DecodeString(whole.String())
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(packed)), most+1))
	if err == nil && len(data) > most {
		err = fmt.Errorf("more than %d bytes, which is all that is read", most)
	}
	return data, err
}
