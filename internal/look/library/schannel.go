package library

import (
	"crypto/tls"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/settingsfile"
)

// Where Windows keeps what its own library may speak, and the order of suites that a
// policy lays down, below HKEY_LOCAL_MACHINE.
const (
	SchannelKey = `SYSTEM\CurrentControlSet\Control\SecurityProviders\SCHANNEL`
	SuitesKey   = `SOFTWARE\Policies\Microsoft\Cryptography\Configuration\SSL\00010002`
)

// Builds of Windows from which on its library speaks TLS 1.3, and no longer TLS 1.1 and
// before unless it is told to.
const (
	speaksThirteen = 20348
	leavesOld      = 26100
)

var schannelVersions = []string{"TLS 1.0", "TLS 1.1", "TLS 1.2", "TLS 1.3"}

// Schannel is the library of Windows as its registry sets it up for clients.
func Schannel(values []settingsfile.RegistryValue, build int) fact.Library {
	l := fact.Library{Name: "SCHANNEL", Place: `HKLM\` + SchannelKey, Level: -1}
	var spoken []string
	for _, version := range schannelVersions {
		on := version != "TLS 1.3" || build >= speaksThirteen
		if version < "TLS 1.2" && build >= leavesOld {
			on = false
		}
		for _, v := range values {
			if !strings.HasSuffix(strings.ToLower(v.Path), strings.ToLower(`\Protocols\`+version+`\Client`)) {
				continue
			}
			switch set := v.Text != "0"; strings.ToLower(v.Name) {
			case "enabled":
				on = set
			case "disabledbydefault":
				on = on && !set
			}
		}
		if on {
			spoken = append(spoken, version)
		}
	}
	if len(spoken) == 0 {
		l.Unread = "its settings let it speak no version at all"
		return l
	}
	l.Min, l.Max = spoken[0], spoken[len(spoken)-1]
	for _, v := range values {
		if strings.EqualFold(v.Name, "Functions") && strings.HasSuffix(strings.ToLower(v.Path),
			strings.ToLower(SuitesKey)) {
			l.Suites, l.NewSuites = suitesNamed(v.Text)
		}
	}
	return l
}

// suitesNamed is the suites of a list with commas or line's ends, by the names of the
// IANA registry; of TLS 1.3 by name.
func suitesNamed(text string) (old []uint16, thirteen []string) {
	known := slices.Concat(tls.CipherSuites(), tls.InsecureCipherSuites())
	for _, name := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(", \r\n", r) }) {
		at := slices.IndexFunc(known, func(s *tls.CipherSuite) bool { return s.Name == name })
		switch {
		case at < 0:
		case slices.Contains(known[at].SupportedVersions, tls.VersionTLS13):
			thirteen = append(thirteen, name)
		default:
			old = append(old, known[at].ID)
		}
	}
	return old, thirteen
}

// Build is the number of a system's build, as its registry tells it; 0 if it does not.
func Build(text string) int {
	n, err := strconv.Atoi(strings.TrimSpace(text))
	if err != nil {
		return 0
	}
	return n
}
