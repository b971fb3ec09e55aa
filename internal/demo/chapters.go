package demo

import (
	"path/filepath"
	"strings"
	"time"
)

// Chapter is one story: a world that is broken, what a trace finds, and what
// mends it.
type Chapter struct {
	Name     string
	Title    string
	Story    string
	Service  string // the stand-in it is about
	Endpoint string
	Broken   []Stand // what runs at first
	Hosts    string  // the client's hosts file at first
	Finds    []string
	Behind   []string // what the trace of the hop behind it, or of the way back, finds
	Mends    string   // what the administrator does
	Mended   []Stand  // what runs then
	Card     string   // what its card says beside name, endpoint and program; {dir} is the world's folder
	// Files is files of the world's folder at first, and MendedFiles what is
	// in them then.
	Files, MendedFiles map[string]string
	// Linux is that it takes what is looked at on Linux alone.
	Linux bool
	// Tries is what somebody changes first, to see whether that is it, and
	// TriedFiles what is in the files then.
	Tries           string
	TriedFiles      map[string]string
	Stations        int      // so many stations try it; those of one image have the hosts file
	Old             []string // of the files, those that were not written for hours
	Yesterday       bool     // it worked, and was traced then
	Other           string   // another client, whose hosts file is right
	Sheet           string   // the file of a sheet, in the folder
	Account, Secret string   // that the client signs in with; the secret is a file of the folder
	Rehearsed       bool     // its fixes are rehearsed before anybody touches anything
	Requested       bool     // what each owner is asked for is written
}

// Flags is how the command line of a chapter's trace names its account, with
// the world's folder.
func (c Chapter) Flags(dir string) string {
	flags := ""
	if c.Sheet != "" {
		flags = "--sheet " + filepath.Join(dir, c.Sheet) + " "
	}
	if c.Account == "" {
		return flags
	}
	return flags + "--user " + c.Account + " --secret file:" + filepath.Join(dir, c.Secret) + " "
}

// Plain is the endpoint without characters that nobody can see.
func (c Chapter) Plain() string {
	return strings.Map(func(r rune) rune {
		if r == 0x200b {
			return -1
		}
		return r
	}, c.Endpoint)
}

// policySheet is sign-in rules that refuse programs, with more before
// that.
func policySheet(before string) string {
	return "format: uakari.sheet/1\nname: accounts\nsign-in:\n  accounts: {ana: [admins], gauge: [programs]}\n  " +
		"admins: admins\n  services: programs\n  rules:\n" +
		before + "    - {name: programs, do: refuse, who: [programs]}\n    - {name: stations, do: allow, who: " +
		"[gauge]}\n"
}

func web(program, listen string, names ...string) Stand {
	if len(names) == 0 {
		names = []string{program + "." + domain}
	}
	return Stand{Program: program, Listen: listen, Kind: "https", Names: names}
}

// passing is a gateway before a backend.
func passing(program, listen, to string) Stand {
	return Stand{Program: program, Listen: listen, Kind: "gateway", To: to}
}

func expired(s Stand, ago time.Duration) Stand {
	s.Ended = ago
	return s
}

func kind(s Stand, kind string) Stand {
	s.Kind = kind
	return s
}

var (
	tidebook      = web("tidebook", "127.20.0.14:8443")
	tidebookAlias = web("tidebook", "127.20.0.14:8443", "tidebook."+domain, "readings."+domain)
)

// Chapters is every chapter, in the order in which the demo tells them.
var Chapters = []Chapter{
	{
		Name: "healthy", Title: "Nothing is wrong",
		Story: "Before the faults, a portal that works: what a healthy trace looks like from the gauging station " +
			"gauge-07.",
		Service: "tidebook", Endpoint: "https://tidebook.varzea.example:8443/",
		Broken: []Stand{tidebook},
	},
	{
		Name: "stopped", Title: "A service is stopped",
		Story: "The sluice operators cannot open their page. It says \"connection refused\". Is it a filter? A " +
			"wrong port?",
		Service: "sluice", Endpoint: "https://sluice.varzea.example:8443/",
		Finds: []string{"service/stopped"},
		Mends: "starts sluice again", Mended: []Stand{web("sluice", "127.20.0.31:8443")},
	},
	{
		Name: "loopback", Title: "It listens to itself only",
		Story:   "The rainfall service was set up yesterday. On its own host it works; from gauge-07 it is refused.",
		Service: "rainfall", Endpoint: "https://rainfall.varzea.example:8452/",
		Broken: []Stand{web("rainfall", "127.0.0.1:8452")},
		Finds:  []string{"ports/loopback-only"},
		Mends:  "lets rainfall listen on 127.20.0.32 and restarts it",
		Mended: []Stand{web("rainfall", "127.20.0.32:8452")},
	},
	{
		Name: "silent", Linux: true, Title: "A port that says nothing",
		Story:   "The soundings service answers nobody: no refusal, only silence. Everyone suspects the firewall.",
		Service: "soundings", Endpoint: "https://soundings.varzea.example:8443/",
		Broken: []Stand{kind(web("soundings", "127.20.0.33:8443"), "hung")},
		Finds:  []string{"ports/queue-full"},
		Mends:  "restarts the hung soundings service", Mended: []Stand{web("soundings", "127.20.0.33:8443")},
	},
	{
		Name: "override", Title: "A forgotten line in the hosts file",
		Story:   "All stations reach tidebook but this one. Somebody tested a new server last spring.",
		Service: "tidebook", Endpoint: "https://tidebook.varzea.example:8443/",
		Broken: []Stand{tidebook},
		Hosts: "127.0.0.1 localhost\n# test of the new portal, remove on Friday\n127.20.0.66 " +
			"tidebook.varzea.example tidebook\n",
		Finds: []string{"names/hosts-override"},
		Mends: "removes the line from the hosts file",
	},
	{
		Name: "alias", Title: "A name that the certificate leaves out",
		Story:   "The portal got a second name, readings. Browsers warn; the stations' upload simply fails.",
		Service: "tidebook", Endpoint: "https://readings.varzea.example:8443/",
		Broken: []Stand{tidebook},
		Finds:  []string{"certs/name-not-covered"},
		Mends:  "installs a certificate that names both", Mended: []Stand{tidebookAlias},
	},
	{
		Name: "plain", Title: "TLS here, none there",
		Story:   "The charts service was moved to a new machine, and its TLS settings stayed on the old one.",
		Service: "charts", Endpoint: "https://charts.varzea.example:8443/",
		Broken: []Stand{kind(web("charts", "127.20.0.35:8443"), "http")},
		Finds:  []string{"certs/server-speaks-plain"},
		Mends:  "switches TLS on for charts", Mended: []Stand{web("charts", "127.20.0.35:8443")},
	},
	{
		Name: "stray", Title: "A character that nobody can see",
		Story:   "The address was copied out of a document. It looks right, and yet there is \"no such host\".",
		Service: "tidebook", Endpoint: "https://tide\u200bbook.varzea.example:8443/",
		Broken: []Stand{tidebook},
		Finds:  []string{"settings/stray-characters"},
		Mends:  "types the address anew",
	},
	{
		Name: "blank", Title: "A blank at the end of a setting",
		Story: "A browser on gauge-07 opens the portal. The upload program beside it does not, with the very same " +
			"address.",
		Service: "tidebook", Endpoint: "https://tidebook.varzea.example:8443/",
		Broken: []Stand{tidebook},
		Card: "settings:\n  - name: the portal's name\n    is: host\n    client: {file: \"{dir}/upload.env\", " +
			"format: env, key: PORTAL}\n",
		Files: map[string]string{
			"upload.env": "# where the readings go\nPORTAL=tidebook.varzea.example \nPORTAL_PORT=8443\n",
		},
		Finds: []string{"settings/stray-characters"},
		Mends: "takes the blank away",
		MendedFiles: map[string]string{
			"upload.env": "# where the readings go\nPORTAL=tidebook.varzea.example\nPORTAL_PORT=8443\n",
		},
	},
	{
		Name: "agent", Title: "The client's own service is stopped",
		Story:   "No reading has come from gauge-07 since the night. By hand, everything gets through.",
		Service: "tidebook", Endpoint: "https://tidebook.varzea.example:8443/",
		Broken: []Stand{tidebook},
		Card:   "client-program: \"{dir}/bin/gauge-agent\"\nclient-log: \"{dir}/gauge-agent.log\"\nfresh: 10m\n",
		Files:  map[string]string{"gauge-agent.log": "2026-11-23 02:14:07 sent 12 readings\n"},
		Old:    []string{"gauge-agent.log"},
		Finds:  []string{"settings/client-stopped"},
		Mends:  "starts gauge-agent again",
		Mended: []Stand{{Program: "gauge-agent", Kind: "agent"}},
	},
	{
		Name: "copies", Title: "Two settings that must agree, and which of them is wrong",
		Story: "The portal moved to another port last week. The station's own settings were changed by hand, on a " +
			"bad night.",
		Service: "tidebook", Endpoint: "https://tidebook.varzea.example:8443/",
		Broken: []Stand{tidebook},
		Card: "settings:\n  - name: the portal's port\n    is: same\n    client: {file: \"{dir}/station.ini\", " +
			"format: ini, key: portal.port}\n" +
			"    server: {file: \"{dir}/tidebook.yaml\", format: yaml, key: listen.port}\n",
		Files: map[string]string{
			"station.ini":   "[portal]\nhost = tidebook.varzea.example\nport = 8433\n",
			"tidebook.yaml": "listen:\n  port: 8443\n",
		},
		Finds: []string{"settings/copies-differ"},
		Mends: "sets the station's port right",
		MendedFiles: map[string]string{
			"station.ini": "[portal]\nhost = tidebook.varzea.example\nport = 8443\n",
		},
	},
	{
		Name: "policy", Title: "A sheet whose deny comes first",
		Story: "The station's upload is refused since the sign-in rules were tidied up. There is a rule that lets " +
			"it in; everybody can see it.",
		Service: "registry", Endpoint: "https://registry.varzea.example:8484/",
		Broken:  []Stand{kind(web("registry", "127.20.0.40:8484"), "door")},
		Files:   map[string]string{"rules.sheet.yaml": policySheet(""), "gauge.secret": "tide7\n"},
		Account: "gauge", Secret: "gauge.secret", Sheet: "rules.sheet.yaml",
		Finds:  []string{"login/policy-blocks"},
		Mends:  "puts the rule for the stations before the one that refuses programs",
		Mended: []Stand{kind(web("registry", "127.20.0.40:8484"), "open door")},
		MendedFiles: map[string]string{"rules.sheet.yaml": policySheet("    - {name: stations, do: allow, who: " +
			"[gauge]}\n")},
	},
	{
		Name: "yesterday", Title: "It worked yesterday",
		Story: "The moorings were reached until this morning, and nobody changed anything. A trace of yesterday " +
			"is kept.",
		Service: "moorings", Endpoint: "https://moorings.varzea.example:8486/",
		Broken:    []Stand{web("moorings", "127.20.0.42:8486", "berths."+domain)},
		Yesterday: true,
		Finds:     []string{"certs/name-not-covered"},
		Mends:     "installs the certificate that names the moorings",
		Mended:    []Stand{web("moorings", "127.20.0.42:8486")},
	},
	{
		Name: "two", Title: "One client of two",
		Story: "gauge-07 does not reach the portal, and gauge-08 beside it does. They were set up alike, " +
			"everybody says.",
		Service: "tidebook", Endpoint: "https://tidebook.varzea.example:8443/",
		Broken: []Stand{tidebook},
		Hosts:  "127.0.0.1 localhost\n127.20.0.67 tidebook.varzea.example\n",
		Other:  "gauge-08",
		Finds:  []string{"names/hosts-override"},
		Mends:  "removes the line from the hosts file of gauge-07",
	},
	{
		Name: "off", Linux: true, Title: "The filter was off",
		Story: "The soundings hang up on gauge-07 without a word. It must be the list of stations, somebody says: " +
			"just switch it off.",
		Service: "depths", Endpoint: "http://depths.varzea.example:8487/",
		Broken: []Stand{kind(web("depths", "127.20.0.43:8487"), "guarded")},
		Card:   "allow-list: \"{dir}/depths.allow\"\n",
		Files: map[string]string{"depths.allow": "# stations that may read the " +
			"soundings\n127.20.0.61\n127.20.0.62\n"},
		Old:   []string{"depths.allow"},
		Finds: []string{"rules/not-on-list"},
		Tries: "lets everybody in, just to test", TriedFiles: map[string]string{"depths.allow": "0.0.0.0/0\n"},
		Mends: "puts the list back, with gauge-07 in it",
		MendedFiles: map[string]string{"depths.allow": "# stations that may read the " +
			"soundings\n127.20.0.61\n127.20.0.62\n127.0.0.1\n"},
	},
	{
		Name: "stations", Title: "Ten stations, one faulty image",
		Story: "Four of ten stations do not reach the portal. Mended by hand, each of them fails again after its " +
			"next start.",
		Service: "tidebook", Endpoint: "https://tidebook.varzea.example:8443/",
		Broken:   []Stand{tidebook},
		Hosts:    "127.0.0.1 localhost\n# of the test bench\n127.20.0.68 tidebook.varzea.example\n",
		Stations: 10,
		Finds:    []string{"names/hosts-override"},
		Mends:    "takes the line out of the image kiosk-3, and sets the four stations up anew",
	},
	{
		Name: "gateway", Linux: true, Title: "A gateway that hides what is behind it",
		Story:   "heron, the gateway, says \"502 Bad Gateway\". heron itself is well: what it needs is not.",
		Service: "heron", Endpoint: "http://heron.varzea.example:8480/",
		Broken: []Stand{passing("heron", "127.20.0.36:8480", "127.20.0.37:8481")},
		Card:   "hops: ['http://gaugings.varzea.example:8481/']\n",
		Finds:  []string{"answer/hop-fails"}, Behind: []string{"ports/none-listening"},
		Mends: "starts gaugings, the backend, again", Mended: []Stand{kind(web("gaugings", "127.20.0.37:8481"),
			"http")},
	},
	{
		Name: "pair", Title: "Two that must reach each other",
		Story: "The exchange takes the stations' reports and calls the ledger back. Reports arrive; receipts " +
			"never do.",
		Service: "exchange", Endpoint: "http://exchange.varzea.example:8482/",
		Broken: []Stand{
			kind(web("exchange", "127.20.0.38:8482"), "http"),
			kind(web("receipts", "127.0.0.1:8483"), "http"),
		},
		Card:  "pairs: ['http://receipts.varzea.example:8483/']\n",
		Finds: nil, Behind: []string{"ports/loopback-only"},
		Mends: "lets receipts listen on 127.20.0.39", Mended: []Stand{kind(web("receipts", "127.20.0.39:8483"),
			"http")},
	},
	{
		Name: "account", Title: "An account that is refused",
		Story: "Since noon the station's upload says \"401\". The password was not changed, everybody swears; the " +
			"portal says no more than that.",
		Service: "registry", Endpoint: "https://registry.varzea.example:8484/",
		Broken: []Stand{kind(web("registry", "127.20.0.40:8484"), "door")},
		Card: "log: \"{dir}/registry.log\"\naccount: {name: gauge}\nreasons:\n  - {log: 'state code 775', cause: " +
			"login/locked, says: too many failures}\n",
		Files:   map[string]string{"registry.log": "registry has started\n", "gauge.secret": "tide7\n"},
		Account: "gauge", Secret: "gauge.secret",
		Finds:  []string{"login/locked"},
		Mends:  "unlocks gauge, and stops the old upload that still sends last year's password",
		Mended: []Stand{kind(web("registry", "127.20.0.40:8484"), "open door")},
	},
	{
		Name: "database", Title: "A database that takes accounts of the domain alone",
		Story: "The ledger's database was set up anew. The program that books the readings says \"login failed\", " +
			"and so it does with any password.",
		Service: "ledger", Endpoint: "mssql://ledger.varzea.example:8433/tides?encrypt=mandatory",
		Broken: []Stand{kind(web("ledger", "127.20.0.41:8433"), "domain database")},
		Card: "log: \"{dir}/ledger.log\"\naccount: {name: gauge}\nreasons:\n  - {log: 'Windows authentication " +
			"only', cause: login/mechanism-off, says: it takes accounts of the domain alone}\n",
		Files:   map[string]string{"ledger.log": "ledger has started\n", "gauge.secret": "tide7\n"},
		Account: "gauge", Secret: "gauge.secret",
		Finds:  []string{"login/mechanism-off"},
		Mends:  "lets ledger take accounts of its own beside those of the domain, and restarts it",
		Mended: []Stand{kind(web("ledger", "127.20.0.41:8433"), "database")},
	},
	{
		Name: "stack", Title: "Two faults, one behind the other",
		Story: "The almanac is refused. Mend that, and tomorrow somebody calls about its certificate, unless both " +
			"are named today. The fixes are rehearsed before anybody touches anything.",
		Rehearsed: true,
		Service:   "almanac", Endpoint: "https://almanac.varzea.example:8457/",
		Broken: []Stand{expired(web("almanac", "127.0.0.1:8457"), 6*24*time.Hour)},
		Finds:  []string{"ports/loopback-only", "certs/expired"},
		Mends:  "lets almanac listen on 127.20.0.34, and renews its certificate",
		Mended: []Stand{web("almanac", "127.20.0.34:8457")},
	},
	{
		Name: "teams", Title: "Two faults, two owners, and each says \"not ours\"",
		Story: "A station does not reach the wharf's page. Whoever keeps the station says that the page's certificate " +
			"is old; whoever keeps the page says that the station goes elsewhere. Each gets what it is asked for, " +
			"with the evidence, and how all will know that it works.",
		Requested: true,
		Service:   "wharf", Endpoint: "https://wharf.varzea.example:8461/",
		Broken: []Stand{expired(web("wharf", "127.20.0.46:8461"), 3*24*time.Hour)},
		Hosts:  "127.0.0.1 localhost\n127.20.0.66 wharf.varzea.example wharf\n",
		Finds:  []string{"names/hosts-override", "certs/expired"},
		Mends:  "removes the line from the hosts file, and the certificate is renewed",
		Mended: []Stand{web("wharf", "127.20.0.46:8461")},
	},
}

// Find finds a chapter by its name.
func Find(name string) (Chapter, bool) {
	for _, c := range Chapters {
		if c.Name == name {
			return c, true
		}
	}
	return Chapter{}, false
}
