package library

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// suiteTable is suites of TLS 1.2 and before with the names that OpenSSL gives
// them (openssl-ciphers(1)), by their number in the IANA registry. Those with
// keys that were shared before are left out: no certificate comes with them.
const suiteTable = `0001 NULL-MD5 0002 NULL-SHA 002F AES128-SHA 0032 DHE-DSS-AES128-SHA 0033 DHE-RSA-AES128-SHA
0034 ADH-AES128-SHA 0035 AES256-SHA 0038 DHE-DSS-AES256-SHA 0039 DHE-RSA-AES256-SHA 003A ADH-AES256-SHA
003B NULL-SHA256 003C AES128-SHA256 003D AES256-SHA256 0040 DHE-DSS-AES128-SHA256 0041 CAMELLIA128-SHA
0044 DHE-DSS-CAMELLIA128-SHA 0045 DHE-RSA-CAMELLIA128-SHA 0046 ADH-CAMELLIA128-SHA 0067 DHE-RSA-AES128-SHA256 006A
DHE-DSS-AES256-SHA256
006B DHE-RSA-AES256-SHA256 006C ADH-AES128-SHA256 006D ADH-AES256-SHA256 0084 CAMELLIA256-SHA 0087
DHE-DSS-CAMELLIA256-SHA
0088 DHE-RSA-CAMELLIA256-SHA 0089 ADH-CAMELLIA256-SHA 009C AES128-GCM-SHA256 009D AES256-GCM-SHA384 009E
DHE-RSA-AES128-GCM-SHA256
009F DHE-RSA-AES256-GCM-SHA384 00A2 DHE-DSS-AES128-GCM-SHA256 00A3 DHE-DSS-AES256-GCM-SHA384 00A6 ADH-AES128-GCM-SHA256
00A7 ADH-AES256-GCM-SHA384
00BA CAMELLIA128-SHA256 00BD DHE-DSS-CAMELLIA128-SHA256 00BE DHE-RSA-CAMELLIA128-SHA256 00BF ADH-CAMELLIA128-SHA256
00C0 CAMELLIA256-SHA256
00C3 DHE-DSS-CAMELLIA256-SHA256 00C4 DHE-RSA-CAMELLIA256-SHA256 00C5 ADH-CAMELLIA256-SHA256 C006 ECDHE-ECDSA-NULL-SHA
C009 ECDHE-ECDSA-AES128-SHA
C00A ECDHE-ECDSA-AES256-SHA C010 ECDHE-RSA-NULL-SHA C013 ECDHE-RSA-AES128-SHA C014 ECDHE-RSA-AES256-SHA C015
AECDH-NULL-SHA
C018 AECDH-AES128-SHA C019 AECDH-AES256-SHA C023 ECDHE-ECDSA-AES128-SHA256 C024 ECDHE-ECDSA-AES256-SHA384 C027
ECDHE-RSA-AES128-SHA256
C028 ECDHE-RSA-AES256-SHA384 C02B ECDHE-ECDSA-AES128-GCM-SHA256 C02C ECDHE-ECDSA-AES256-GCM-SHA384 C02F
ECDHE-RSA-AES128-GCM-SHA256 C030 ECDHE-RSA-AES256-GCM-SHA384
C050 ARIA128-GCM-SHA256 C051 ARIA256-GCM-SHA384 C052 DHE-RSA-ARIA128-GCM-SHA256 C053 DHE-RSA-ARIA256-GCM-SHA384 C056
DHE-DSS-ARIA128-GCM-SHA256
C057 DHE-DSS-ARIA256-GCM-SHA384 C05C ECDHE-ECDSA-ARIA128-GCM-SHA256 C05D ECDHE-ECDSA-ARIA256-GCM-SHA384 C060
ECDHE-ARIA128-GCM-SHA256 C061 ECDHE-ARIA256-GCM-SHA384
C072 ECDHE-ECDSA-CAMELLIA128-SHA256 C073 ECDHE-ECDSA-CAMELLIA256-SHA384 C076 ECDHE-RSA-CAMELLIA128-SHA256 C077
ECDHE-RSA-CAMELLIA256-SHA384 C09C AES128-CCM
C09D AES256-CCM C09E DHE-RSA-AES128-CCM C09F DHE-RSA-AES256-CCM C0A0 AES128-CCM8 C0A1 AES256-CCM8
C0A2 DHE-RSA-AES128-CCM8 C0A3 DHE-RSA-AES256-CCM8 C0AC ECDHE-ECDSA-AES128-CCM C0AD ECDHE-ECDSA-AES256-CCM C0AE
ECDHE-ECDSA-AES128-CCM8
C0AF ECDHE-ECDSA-AES256-CCM8 CCA8 ECDHE-RSA-CHACHA20-POLY1305 CCA9 ECDHE-ECDSA-CHACHA20-POLY1305 CCAA
DHE-RSA-CHACHA20-POLY1305 `

// suite is one row of the table, with the words that choose it.
type suite struct {
	code  uint16
	words map[string]bool
}

// suites reads the table.
func suites() []suite {
	fields := strings.Fields(suiteTable)
	list := make([]suite, 0, len(fields)/2)
	for i := 0; i+1 < len(fields); i += 2 {
		code, err := strconv.ParseUint(fields[i], 16, 16)
		if err != nil {
			panic(err) // the table is ours
		}
		list = append(list, suite{uint16(code), wordsOf(fields[i+1])})
	}
	return list
}

// beginnings is what the beginning of a name says of how keys are agreed on and
// who vouches for them.
var beginnings = []struct{ prefix, words string }{
	{"ECDHE-ECDSA-", "kECDHE kEECDH ECDHE EECDH aECDSA ECDSA"}, {"ECDHE-", "kECDHE kEECDH ECDHE EECDH aRSA"},
	{"DHE-RSA-", "kDHE kEDH DHE EDH aRSA"}, {"DHE-DSS-", "kDHE kEDH DHE EDH aDSS DSS"},
	{"AECDH-", "kECDHE kEECDH AECDH aNULL"}, {"ADH-", "kDHE kEDH ADH aNULL"}, {"", "kRSA RSA aRSA"},
}

// parts is what parts of a name say of how is encrypted.
var parts = []struct{ part, words string }{
	{"AES128", "AES AES128"}, {"AES256", "AES AES256"}, {"CHACHA20", "CHACHA20"}, {"NULL", "eNULL NULL"},
	{
		"CAMELLIA128",
		"CAMELLIA CAMELLIA128",
	}, {"CAMELLIA256", "CAMELLIA CAMELLIA256"}, {"ARIA128", "ARIA ARIA128 ARIAGCM"},
	{"ARIA256", "ARIA ARIA256 ARIAGCM"},
	{"-CCM", "AESCCM"}, {"CCM8", "AESCCM8"},
}

func wordsOf(name string) map[string]bool {
	words := map[string]bool{name: true}
	add := func(text string) {
		for _, w := range strings.Fields(text) {
			words[w] = true
		}
	}
	for _, b := range beginnings {
		if strings.HasPrefix(name, b.prefix) {
			add(b.words)
			break
		}
	}
	for _, p := range parts {
		if strings.Contains(name, p.part) {
			add(p.words)
		}
	}
	sealed := strings.Contains(name, "GCM") || strings.Contains(name, "CCM") || strings.Contains(name, "CHACHA20")
	switch {
	case sealed && words["AES"] && strings.Contains(name, "GCM"):
		add("AESGCM TLSv1.2")
	case sealed:
		add("TLSv1.2")
	case strings.HasSuffix(name, "-SHA"):
		add("SHA SHA1 SSLv3 TLSv1")
	case strings.HasSuffix(name, "-SHA256"):
		add("SHA256 TLSv1.2")
	case strings.HasSuffix(name, "-SHA384"):
		add("SHA384 TLSv1.2")
	default:
		add("MD5 SSLv3 TLSv1")
	}
	if !words["eNULL"] {
		add("ALL HIGH")
	} else {
		add("COMPLEMENTOFALL")
	}
	if words["AES"] && !words["AESCCM"] || words["CHACHA20"] {
		if !words["aNULL"] && !words["aDSS"] {
			add("DEFAULT")
		}
	}
	return words
}

// nothing is words that choose only suites which no library of today has, or
// that come without certificates.
var nothing = []string{
	"MEDIUM",
	"LOW",
	"EXP",
	"EXPORT",
	"PSK",
	"kPSK",
	"kRSAPSK",
	"kECDHEPSK",
	"kDHEPSK",
	"RSAPSK",
	"aPSK",
	"SRP",
	"kSRP",
	"aSRP",
	"RC4",
	"RC2",
	"DES",
	"3DES",
	"SEED",
	"IDEA",
	"DH",
	"kDHr",
	"kDHd",
	"kDH",
	"kECDH",
	"kECDHe",
	"kECDHr",
	"aECDH",
	"aDH",
	"ECDH",
	"GOST94",
	"GOST89",
	"GOST89MAC",
	"kGOST",
	"aGOST",
	"aGOST01",
	"KRB5",
	"FZA",
	"COMPLEMENTOFDEFAULT",
	"AESGCM8",
}

// choose evaluates a list of suites as OpenSSL writes it (openssl-ciphers(1)):
// what it chooses, and the security level that it sets, -1 for none. A word
// that is not known is an error: then nobody can say what is chosen.
func choose(text string) (codes []uint16, level int, err error) {
	all := suites()
	level = -1
	chosen, killed := map[uint16]bool{}, map[uint16]bool{}
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(":, ;", r) }) {
		word, at, _ := strings.Cut(word, "@")
		if n, ok := strings.CutPrefix(at, "SECLEVEL="); ok {
			if level, err = strconv.Atoi(n); err != nil || level < 0 || level > 5 {
				return nil, -1, fmt.Errorf("%q is no level", at)
			}
		}
		if word == "" {
			continue
		}
		sign := word[0]
		if strings.ContainsRune("+-!", rune(sign)) {
			word = word[1:]
		}
		if sign == '+' {
			continue // only their order
		}
		needed := strings.Split(word, "+")
		known := map[string]bool{}
		for _, s := range all {
			fits := true
			for _, n := range needed {
				known[n] = known[n] || s.words[n] || slices.Contains(nothing, n)
				fits = fits && s.words[n]
			}
			switch {
			case !fits:
			case sign == '!':
				killed[s.code], chosen[s.code] = true, false
			case sign == '-':
				chosen[s.code] = false
			case !killed[s.code]:
				chosen[s.code] = true
			}
		}
		for _, n := range needed {
			if !known[n] && !strings.HasPrefix(n, "TLS_") {
				return nil, -1, fmt.Errorf("%q is not known here", n)
			}
		}
	}
	for _, s := range all {
		if chosen[s.code] {
			codes = append(codes, s.code)
		}
	}
	return codes, level, nil
}

// Ordinary is the suites that OpenSSL offers where nothing else is set.
func Ordinary() []uint16 {
	codes, _, err := choose("DEFAULT")
	if err != nil {
		panic(err) // the words are ours
	}
	return codes
}

// atLevel is the suites that are left at a security level
// (SSL_CTX_set_security_level(3)).
func atLevel(codes []uint16, level int) []uint16 {
	words := map[uint16]map[string]bool{}
	for _, s := range suites() {
		words[s.code] = s.words
	}
	return slices.DeleteFunc(slices.Clone(codes), func(code uint16) bool {
		w := words[code]
		strong := w["AES256"] || w["CHACHA20"] || w["CAMELLIA256"] || w["ARIA256"]
		return level >= 1 && (w["eNULL"] || w["aNULL"]) || level >= 3 && w["kRSA"] || level >= 4 && !strong
	})
}
