package test

import (
	"encoding/binary"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"
)

// TestEncodings hands over files as programs of Windows save them: UTF-16 of either order, or
// UTF-8, with a mark, and lines that end with a carriage return.
func TestEncodings(t *testing.T) {
	t.Parallel()
	save := func(order binary.AppendByteOrder, text string) string {
		text = strings.ReplaceAll(text, "\n", "\r\n")
		if order == nil {
			return "\ufeff" + text
		}
		var b []byte
		for _, unit := range utf16.Encode([]rune("\ufeff" + text)) {
			b = order.AppendUint16(b, unit)
		}
		return string(b)
	}
	dir := t.TempDir()
	record := runIn(t, nil, "record", "-o", "-").stdout
	const card = "format: uakari.card/1\nname: portal\nendpoint: http://127.0.0.1:9/\n"
	for name, order := range map[string]binary.AppendByteOrder{
		"le": binary.LittleEndian, "be": binary.BigEndian, "8": nil,
	} {
		file := func(kind, text string) string {
			return write(t, filepath.Join(dir, kind+"-"+name), save(order, text))
		}
		if r := run(t, "card", "check", file("card", card)); r.status == 2 {
			t.Errorf("%s: a card: %+v", name, r)
		}
		r := run(t, "trace", "--json", "--record", "server="+file("record", record), "http://127.0.0.1:9/")
		if !strings.Contains(r.stdout, `"means": "record"`) {
			t.Errorf("%s: a record: %s%s", name, r.stdout, r.stderr)
		}
	}
}
