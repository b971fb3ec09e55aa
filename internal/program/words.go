package program

import (
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// Meaning is what words of a program say about why it refused.
type Meaning struct {
	Cause string
	Says  string
	// Sure is that the words have no other meaning.
	Sure bool
}

type phrase struct {
	words string // a regular expression, without regard to case
	Meaning
}

// refusals is phrases that servers of all kinds use when they turn somebody
// away, what tells most first. They are no single program's.
var refusals = []phrase{
	{
		`cannot find your (?:reverse )?hostname|no reverse (?:dns|name)|reverse (?:dns )?lookup (?:failed|does not)|` +
			`reverse (?:dns|address) .*(?:mismatch|not match)|hostname verification failed|` +
			`client host .*does not resolve|forward.confirmed`,
		Meaning{"names/reverse-differs", "it wants a name for this client's address that leads back to it", true},
	},
	{
		`no pg_hba\.conf entry|not listed in AllowUsers|not in .*allow.?list`,
		Meaning{"rules/not-on-list", "its list does not name this client", false},
	},
	{
		`too many (?:open )?(?:connections|clients|users|sessions|concurrent)|` +
			`max(?:imum)? (?:number of )?(?:clients|connections|users|sessions)|connection (?:count |number )?limit|` +
			`concurrency limit|connections? exceeded|max_connections|remaining connection slots|user limit reached|` +
			`no (?:more|free) (?:connections|sessions|slots)|server (?:is )?(?:full|too busy)|sorry, .*maximum`,
		Meaning{"login/too-many-sessions", "it has no session left for this client", true},
	},
	{
		`rate limit|too many (?:requests|attempts|errors)|slow down|connection rate`,
		Meaning{"rules/rate-limited", "it allows only so many tries in a time", true},
	},
	{
		`(?:tls|ssl|encryption) (?:is )?(?:required|needed|mandatory)|requires? (?:an? )?(?:secure|encrypted|tls|` +
			`ssl)|must (?:issue|use|start) (?:a )?(?:starttls|tls|ssl)|(?:insecure|unencrypted|` +
			`plain ?text) (?:connections? |auth\w* |logins? )?(?:is|are|was)? ?(?:not allowed|disallowed|disabled|` +
			`rejected|refused)|use https|to an https port`,
		Meaning{"settings/wrong-security", "it wants an encrypted session", true},
	},
	{
		`starting up|not (?:yet )?(?:ready|accepting connections)|is (?:still )?(?:loading|initiali[sz]ing|` +
			`starting)|loading the (?:dataset|data)|shutting down|in recovery|maintenance|come back later`,
		Meaning{"answer/not-ready", "it is not ready", true},
	},
	{
		`many connection errors|not allowed at this time|\bbanned\b|(?:temporarily|currently) blocked|blacklist|` +
			`block ?list|listed (?:at|in|by|on)\b|dnsbl|\brbl\b`,
		Meaning{"login/host-blocked", "it blocks this client's host", false},
	},
	{
		`not allowed to connect|client host rejected|access (?:from \S+ )?(?:is |has been )?(?:denied|refused|` +
			`forbidden)|(?:connection|client|host|address|ip|peer)\S* .{0,60}(?:denied|rejected|refused|forbidden|` +
			`not (?:allowed|authori[sz]ed|permitted))|(?:denied|rejected|refused) by (?:acl|access|rule|policy|` +
			`configuration|tcp)|(?:denied|rejected|refused|forbidden).{0,40}(?:connection|client|host|address)|` +
			`not authori[sz]ed|refused by|refused connect|no permission to connect`,
		Meaning{"answer/source-refused", "it turns this client away", false},
	},
}

// logons is what the audit of Windows says of a logon that failed, in the words of
// package eventlog, which do not change with the system's language.
var logons = []phrase{
	{`Security-Auditing: .*there is no such account`, Meaning{"login/unknown-account", "there is no such account",
		true}},
	{`Security-Auditing: .*the password is wrong`, Meaning{"login/wrong-secret", "the secret is wrong", true}},
	{`Security-Auditing: .*the account is locked`, Meaning{"login/locked", "the account is locked", true}},
	{`Security-Auditing: .*the account is disabled`, Meaning{"login/disabled", "the account is switched off", true}},
	{`Security-Auditing: .*the account has expired`, Meaning{"login/account-expired", "the account has expired",
		true}},
	{`Security-Auditing: .*the password has expired`, Meaning{"login/secret-expired", "the secret has expired", true}},
	{`Security-Auditing: .*the password must be changed`, Meaning{"login/must-change",
		"the secret must be changed first", true}},
	{`Security-Auditing: .*not at this time of day`, Meaning{"login/rejected", "not at this time", true}},
	{`Security-Auditing: .*not from this computer`, Meaning{"login/not-from-here", "not from this client", true}},
	{`Security-Auditing: .*this kind of logon is not granted`,
		Meaning{"login/no-right", "this kind of logon is not granted to it", true}},
	{`Security-Auditing: .*the clocks are too far apart`, Meaning{"login/clock-skew", "the clocks are too far apart",
		true}},
}

// modules is what the modules of PAM say, which many servers of Unix leave accounts to.
var modules = []phrase{
	{`pam_unix\(\S+\): account \S+ has expired \(account expired\)|pam_sss\(\S+\): .*\(user account has expired\)`,
		Meaning{"login/account-expired", "the account has expired", true}},
	{`pam_unix\(\S+\): account \S+ has expired \(failed to change|expired password for user \S+ \(password aged\)`,
		Meaning{"login/secret-expired", "the secret has expired", true}},
	{`pam_unix\(\S+\): expired password for user \S+ \(root enforced\)|pam_sss\(\S+\): .*new one required\)`,
		Meaning{"login/must-change", "the secret must be changed first", true}},
	{`pam_unix\(\S+\): check pass; user unknown|pam_sss\(\S+\): .*\(user not known to `,
		Meaning{"login/unknown-account", "there is no such account", true}},
	{`pam_faillock\(\S+\): .*account temporarily locked|pam_tally2?\(\S+\): user .* tally \d+, deny \d+`,
		Meaning{"login/locked", "the account is locked after failures", true}},
	{`pam_access\(\S+\): access denied for user`,
		Meaning{"login/not-from-here", "its list of accounts and clients shuts it out", true}},
	{`pam_listfile\(\S+\): refused user|pam_succeed_if\(\S+\): requirement .* not met by user`,
		Meaning{"login/no-right", "what it asks of accounts is not met", true}},
	{`pam_limits\(\S+\): too many logins`,
		Meaning{"login/too-many-sessions", "the account has no session left", true}},
	{`pam_shells\(\S+\): user has an invalid shell`,
		Meaning{"login/disabled", "its shell is not a listed one", true}},
	{`pam_sss\(\S+\): .*\(authentication service cannot retrieve`,
		Meaning{"login/directory-down", "what it checks accounts with cannot be asked", true}},
}

type compiledPhrase struct {
	words *regexp.Regexp
	Meaning
}

func compile(list []phrase) func() []compiledPhrase {
	return sync.OnceValue(func() []compiledPhrase {
		var all []compiledPhrase
		for _, p := range list {
			all = append(all, compiledPhrase{regexp.MustCompile(`(?i)` + p.words), p.Meaning})
		}
		return all
	})
}

var refusalPhrases = compile(slices.Concat(logons, modules, refusals))

// Refuses is what a server's own words say about why it turned a client away.
func Refuses(text string) (Meaning, bool) { return means(text, refusalPhrases()) }

func means(text string, phrases []compiledPhrase) (Meaning, bool) {
	for _, p := range phrases {
		if p.words.MatchString(text) {
			return p.Meaning, true
		}
	}
	return Meaning{}, false
}

// OfAccount reports whether words speak of an account or its secret, and so of
// nothing that lets its client in.
func OfAccount(text string) bool { return ofAccount().MatchString(text) }

var ofAccount = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)for user|password|authenticat|log[- ]?in|credential|account`)
})

// starts is phrases in what a program says when it does not start. A line of
// the reason outranks what is said about the end.
var starts = []phrase{
	{ // as the manager writes it
		`failed to (?:locate executable|execute) .*no such file|failed at step exec .*no such file`,
		Meaning{"service/failed", "the program that it starts is not there", true},
	},
	{
		`address (?:is )?(?:already )?in use|eaddrinuse|failed \(98:|cannot bind .*in use|port .*(?:already|in use)|` +
			`port \d+ is busy|only one usage of each socket address`,
		Meaning{"service/port-taken", "its port is taken", true},
	},
	{
		`image not known|no such image|manifest (?:for \S+ )?(?:unknown|not found)|unable to find image|` +
			`pull access denied|(?:error|failed).{0,60}(?:pulling|copying system) image|` +
			`initializing source docker://|imagepullbackoff|errimagepull|image .{0,80}(?:not found|does not exist)`,
		Meaning{"service/image-missing", "its image cannot be had", true},
	},
	{
		`no space left on device|cannot allocate memory|too many open files|out of memory|disk quota exceeded|` +
			`insufficient (?:disk|space|memory)|disk (?:is )?full`,
		Meaning{"service/starved", "something has run out", true},
	},
	{
		`apparmor="denied"|avc:\s+denied|selinux is preventing`,
		Meaning{"service/policy-denied", "the system's policy denies it", true},
	},
	{
		`\[emerg\]|not a valid (?:configuration )?directive|parse config:|(?:loading|reading|` +
			`parsing) .{0,20}config.{0,30}failed|unexpected symbol near|(?:toml|yaml|json|xml): line \d+|` +
			`bad configuration option|configuration error|invalid configuration|fatal config file error|` +
			`fatal error in defaults handling|syntax error(?:,|:| in\b| on\b| at line| near line|$)|parse error|` +
			`parsing \S* ?(?:failed|error)|failed to (?:parse|load|read) (?:the )?(?:config|settings)|` +
			`bad (?:configuration|config|directive|option|line)|config\w* .{0,40}(?:invalid|error|bad)|(?:error|` +
			`failed) (?:in|reading|loading|parsing) (?:the )?(?:config|settings)`,
		Meaning{"service/settings-rejected", "it refuses its settings", true},
	},
	{
		`(?:unknown|unrecognized|unrecognised|unsupported|unexpected|unable to parse|illegal|invalid|undefined|` +
			`duplicate|missing|misplaced) (?:\S+ ){0,4}(?:directive|parameter|option|flag|keyword|variable|setting|` +
			`field|key|section|argument|token|value|statement|command|attribute|property|entry|line|name|type|listen)`,
		Meaning{"service/settings-rejected", "it refuses its settings", true},
	},
	{
		`(?:/etc/\S*?|\S+\.(?:conf|cfg|cnf|ini|ya?ml|toml|json|lua|xml|properties|rc))['"]?(?:[:(]|,? (?:at |on |` +
			`in )?line:? ?)\d+|problem .{0,40}(?:reading|loading|parsing|with) .{0,20}config|(?:problem|error|` +
			`mistake) (?:on|in|at|near) line \d+|badly formed|unrecogni[sz]ed:? |unknown setting|` +
			`improper format of .{0,30}config|missing .{0,30}config(?:uration)?(?: file|\b)|trailing garbage|` +
			`expected (?:near|at|before|after) .{0,40}\bline \d+|(?:server|instance) is not configured`,
		Meaning{"service/settings-rejected", "it refuses its settings", true},
	},
	{
		`has group or world access|permissions? .{0,40}(?:too open|are too|is wrong|incorrect)|unprotected private key|` +
			`no hostkeys available|(?:certificate|private key|key file|pem|keystore).{0,80}(?:failed|cannot|` +
			`could not|no such|not (?:found|readable|match)|denied|bad|mismatch|error|expired)|(?:failed|cannot|` +
			`could not|unable to|error) .{0,60}(?:certificate|private key|key file|pem\b|keystore)`,
		Meaning{"service/settings-rejected", "it cannot use a file that its settings name", true},
	},
	{
		`(?:cannot|could not|failed to|unable to|error|fatal).{0,100}(?:no such file|permission denied|not found|` +
			`is not writable|does not exist)`,
		Meaning{"service/settings-rejected", "it cannot use a file that its settings name", true},
	},
	{
		`open (?:/etc/\S+|\S+\.(?:conf|cfg|cnf|ini|ya?ml|toml|json|xml|properties)):? .{0,20}(?:permission denied|` +
			`no such file)`,
		Meaning{"service/settings-rejected", "it cannot read its settings", true},
	},
	{
		`configuration file.{0,120}(?:test failed|contains errors)`,
		Meaning{"service/settings-rejected", "it refuses its settings", true},
	},
	{ // by sysexits(3), as the manager writes it
		`status=(?:64/USAGE|78/CONFIG)`,
		Meaning{"service/settings-rejected", "it was started with words or settings that it does not take", false},
	},
}

var startPhrases = compile(starts)

// DoesNotStart is what words of a start say about why it failed, and how much
// they tell: the less the better.
func DoesNotStart(text string) (m Meaning, rank int, ok bool) {
	for i, p := range startPhrases() {
		if p.words.MatchString(text) {
			return p.Meaning, i, true
		}
	}
	return Meaning{}, 0, false
}

// seenAs is how servers write whom they speak to.
var seenAs = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?i)(?:host "|for host |\[|from |client |address |peer |ip )"?([0-9]{1,3}(?:\.[0-9]{1,3}){3}|` +
			`[0-9a-f:]*:[0-9a-f:]+)\b`,
	)
})

// SeenAs is the address that a server's words say it sees this client by.
func SeenAs(text string) (netip.Addr, bool) {
	for _, m := range seenAs().FindAllStringSubmatch(text, -1) {
		if addr, err := netip.ParseAddr(strings.Trim(m[1], "[]")); err == nil {
			return addr.Unmap(), true
		}
	}
	return netip.Addr{}, false
}
