package redact

import (
	"regexp"
	"strings"
	"sync"
)

// What stands in a log may be anything that somebody typed. Three nets catch what may be
// a secret in it: values that have the form of one, options of commands that take one, and
// the words behind one that names a secret, but for those that programs use to say what is
// wrong with it.

// formed is what has the form of a secret, wherever it stands.
var formed = sync.OnceValue(func() []*regexp.Regexp {
	return []*regexp.Regexp{
		// A line of shadow(5), and a hash of crypt(5) alone.
		regexp.MustCompile(`\b[a-z_][\w.-]*:(?:[!*]{0,2}\$[0-9a-z]{1,4}\$[^\s"']*|[!*]{0,2}[./0-9A-Za-z]{13}(?::[^\s:]*){3,})`),
		regexp.MustCompile(`\$(?:[0-9][a-z]?|y|gy|7|2[abxy])\$[^\s:"',;]+`),
		// Of directories (RFC 2307), of databases, of tokens (RFC 7519).
		regexp.MustCompile(`\{(?:SSHA|SHA|SMD5|MD5|CRYPT|SSHA512|PBKDF2)[^}]*\}[^\s"']+`),
		regexp.MustCompile(`\b(?:SCRAM-SHA-256|md5)\$?[0-9a-fA-F]{32}\b|\bSCRAM-SHA-256\$\S+`),
		regexp.MustCompile(`\beyJ[\w-]{8,}\.[\w-]+(?:\.[\w-]*)?`),
		// The body of a key, and what else is as long and as mixed.
		regexp.MustCompile(`[A-Za-z0-9+/]{40,}={0,2}`),
	}
})

// optioned is options of commands, with the values that they take (mysql(1), ldapsearch(1),
// sshpass(1), curl(1)).
var optioned = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(\s|^)(--?(?:pass(?:word|wd|phrase)?|secret|token|api-?key|auth|pin)[ =]\s*|-p|-w |-W |-a |-u \S+?:)` +
			`("[^"]*"|'[^']*'|[^\s"';]+)`,
	)
})

// telling is the words that programs use behind one that names a secret. What is none of
// them may be the secret.
var telling = words(`
	a about account accepted after again alive all alone already an and another any are as at attempt attempts
	assigned auth authenticated authentication authenticator authorization based be because been before by cache callback
	cannot changed change check checking client configured could database denied did different does domain do due
	empty entry error exchange expiration expire expired expires fail failed fails failing failure failures file
	first for format found from given good grace had has have hash history host in incorrect invalid is it its keyboard
	kept known last length less limit login logins lock locked long lookup matched match matches method mismatch missing
	module more must need needed new no none not now of ok old on one only or other policy prompt provided query
	quality received refused rejected remote required reset rotation same sent server service session set settings
	setup short should so source stored strength supplied support supported than that the their them there they
	this time times to token too tried try type unknown unset until update updated use used user users valid
	ssh ssh2 preauth
	verification verified verify version via was weak when which while will with without wrong yet your`)

// verdicts end what is said of a secret, where a colon follows.
var verdicts = words(`wrong incorrect failed failure mismatch expired invalid`)

// names follow these words: an account, a host, a file.
var naming = words(`for user account role from by on at in file line principal dn uid service host port client`)

// naming secrets.
var secretWord = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)^(?:pass(?:word|wd|phrase|code)s?|pwd|secrets?|tokens?|credentials?|otp|pin|passwort)$`)
})

// mostBehind is how many words behind one that names a secret are looked at.
const mostBehind = 8

// trimmed is a word without what stands around it.
func trimmed(word string) string { return strings.Trim(word, `"'.,;:()[]{}<>!?=`) }

// hideBehind hides what stands behind a word that names a secret and is none of the words
// by which programs say what is wrong with one.
func hideBehind(line string) string {
	fields := strings.SplitAfter(line, " ")
	left, before := 0, ""
	for i, field := range fields {
		word := strings.ToLower(trimmed(strings.TrimSpace(field)))
		switch {
		case secretWord().MatchString(word) && strings.Contains(field, ")") && !strings.Contains(field, "("):
			left = 0 // the end of a remark: what it tells of the secret stands before it
			continue
		case secretWord().MatchString(word):
			left, before = mostBehind, word
			continue
		case left == 0 || word == "":
			continue
		case verdicts[word] && strings.Contains(field, ":"):
			left = 1 // the last word that it speaks of
		case telling[word], naming[word]:
		case naming[before] && !strings.ContainsAny(trimmed(strings.TrimSpace(field)), "$%^&*+=~|\\"):
			// the name of an account, a host or a file
		case word == strings.ToLower(Hidden), strings.HasSuffix(word, "/"+Hidden):
		default:
			bare := trimmed(strings.TrimSpace(field))
			fields[i] = strings.Replace(field, bare, Hidden, 1)
		}
		left, before = left-1, word
	}
	return strings.Join(fields, "")
}

// hideForms hides what has the form of a secret. The print of a key is none.
func hideForms(line string) string {
	for _, form := range formed() {
		line = form.ReplaceAllStringFunc(line, func(found string) string {
			at := strings.Index(line, found)
			if at >= 7 && strings.HasSuffix(line[:at], "SHA256:") || folders(found) {
				return found // a fingerprint, a path
			}
			if name, _, ok := strings.Cut(found, ":"); ok {
				return name + ":" + Hidden
			}
			return Hidden
		})
	}
	line = paired().ReplaceAllString(line, "${1}"+Hidden+"]")
	line = spaced().ReplaceAllString(line, "${1}"+Hidden)
	return optioned().ReplaceAllString(line, "${1}${2}"+Hidden)
}

// mixedPart is the length from which a part between slashes with capitals and digits in it
// belongs to a key. Few keys begin with a slash (1 of 64), so a part of an absolute path may
// be longer.
const (
	mixedPart         = 8
	mixedPartAbsolute = 20
)

// numbered is a name with a number behind it, as of a temporary folder.
var numbered = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z]+[0-9]+$`) })

// folders reports whether what looks like the body of a key is the names of folders: no
// part is as long as a key, and they are not as mixed.
func folders(text string) bool {
	longest := mixedPart
	if strings.HasPrefix(text, "/") {
		longest = mixedPartAbsolute
	}
	if !strings.Contains(text, "/") || strings.Contains(text, "+") || strings.HasSuffix(text, "=") {
		return false
	}
	for part := range strings.SplitSeq(text, "/") {
		mixed := strings.ToLower(part) != part && strings.ContainsAny(part, "0123456789")
		if len(part) >= 40 || len(part) >= longest && mixed && !(longest > mixedPart && numbered().MatchString(part)) {
			return false
		}
	}
	return true
}

// paired is an account and its password, as a RADIUS server writes them.
var paired = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)((?:login (?:ok|incorrect)|invalid user)[^\[]*\[[^\s/\[\]]+/)[^\]]+\]`)
})

// spaced is -p with a value that is no port.
var spaced = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`((?:\s|^)-p )(?:[^\s\d-]\S*|\d+[A-Za-z]\S*)`)
})
