package scene

import (
	"strings"
	"testing"

	"uakari/internal/fact"
)

// TestOwnWords is what error answers of many kinds say is wrong.
func TestOwnWords(t *testing.T) {
	for text, want := range map[string]string{
		`{"title":"No tides","detail":"the table is empty","status":500}`: "the table is empty: No " +
			"tides",
		"1f\r\n{\"error\":\"invalid_scope\",\"error_description\":\"readings only\"}\r\n0": "readings only: " +
			"invalid_scope",
		`{"error":{"code":7,"message":"no such station"}}`: "no such station",
		`{"error":"cut of`: "",
		"<html><head><title>500 Internal Server Error</title></head><h1>Internal Server Error</h1></html>": "",
		"<html><title>Tide &amp; table</title><body><h1>Out of <b>tides</b></h1><p>Come back at noon</p>": "Tide & " +
			"table: Out of tides: Come back at noon",
		"<?xml version='1.0'?><Fault><faultstring>no berth</faultstring></Fault>": "no berth",
		"sailing table: unexpected null berth\nat line " +
			"7": "sailing table: unexpected null berth",
		"Internal Server Error":     "",
		"500":                       "",
		"password=tide is refused":  "password=… is refused",
		strings.Repeat("tide ", 90): strings.TrimSpace(strings.Repeat("tide ", 32)),
		"":                          "",
	} {
		got := OwnWords(fact.Reply{Status: 500, Reason: "Internal Server Error", Protocol: "http", Text: text})
		if strings.TrimRight(got, "… ") != strings.TrimRight(want, "… ") {
			t.Errorf("%.60q: %q, want %q", text, got, want)
		}
	}
}
