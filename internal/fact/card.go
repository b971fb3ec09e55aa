package fact

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Card says what a healthy application looks like ("uakari.card/1",
// docs/schema/card.schema.json).
type Card struct {
	Format   string   `json:"format" yaml:"format"`
	Name     string   `json:"name" yaml:"name"`
	Endpoint string   `json:"endpoint,omitempty" yaml:"endpoint"`
	Aliases  []string `json:"aliases,omitempty" yaml:"aliases"`
	Unit     string   `json:"unit,omitempty" yaml:"unit"`
	Program  string   `json:"program,omitempty" yaml:"program"` // name, or path
	Ports    []uint16 `json:"ports,omitempty" yaml:"ports"`     // every one that should be open
	Log      string   `json:"log,omitempty" yaml:"log"`         // a log that is written as long as it is well
	Fresh    string   `json:"fresh,omitempty" yaml:"fresh"`     // how fresh that log must be: "10m"
	// Certificate is the file of the certificate that the server serves, and
	// CertificateKey that of its key, where it is another one.
	Certificate    string `json:"certificate,omitempty" yaml:"certificate"`
	CertificateKey string `json:"certificate_key,omitempty" yaml:"certificate-key"`
	// AllowList is a file of the application's own, an address or a net a
	// line, that names who is let in.
	AllowList string `json:"allow_list,omitempty" yaml:"allow-list"`

	Needs []string `json:"needs,omitempty" yaml:"needs"` // units that it cannot do without
	// that makes the connection on the client
	ClientProgram string `json:"client_program,omitempty" yaml:"client-program"`
	// ClientUnit is the client's own service (an agent), which makes the
	// connection; ClientLog is its log, which is fresh as the card says.
	ClientUnit    string `json:"client_unit,omitempty" yaml:"client-unit"`
	ClientLog     string `json:"client_log,omitempty" yaml:"client-log"`
	ServiceRecord string `json:"service_record,omitempty" yaml:"service-record"` // by which clients find the server
	// ClientCertificate is a file on the client, CERT or CERT,KEY, with the
	// certificate that it presents.
	ClientCertificate string `json:"client_certificate,omitempty" yaml:"client-certificate"`
	// ClientTrust is the file or folder of roots that the client program goes
	// by, in place of the system's; ClientTLS the versions that it speaks,
	// where its library is not this system's own.
	ClientTrust string   `json:"client_trust,omitempty" yaml:"client-trust"`
	ClientTLS   []string `json:"client_tls,omitempty" yaml:"client-tls"`
	Proxy       string   `json:"proxy,omitempty" yaml:"proxy"` // through which clients must go: "http://heron:3128"
	Limit       string   `json:"limit,omitempty" yaml:"limit"` // how long clients wait for an answer: "10s"

	PortMap  []PortUse     `json:"port_map,omitempty" yaml:"port-map"`
	Settings []SettingRule `json:"settings,omitempty" yaml:"settings"`
	Signs    []Sign        `json:"signs,omitempty" yaml:"signs"`
	Account  *CardAccount  `json:"account,omitempty" yaml:"account"`
	Answer   *CardAnswer   `json:"answer,omitempty" yaml:"answer"`
	Talk     *Talk         `json:"talk,omitempty" yaml:"talk"`
	Reasons  []Reason      `json:"reasons,omitempty" yaml:"reasons"`
	From     []string      `json:"from,omitempty" yaml:"from"` // nets that may use it
	Hops     []string      `json:"hops,omitempty" yaml:"hops"` // endpoints that it needs itself
	// endpoints that must reach it, and that it must reach
	Pairs []Pair `json:"pairs,omitempty" yaml:"pairs"`

	// ScopeBlocks is accepted for older cards, and always true: a client whose address is
	// in none of the scopes is not served.
	ScopeBlocks bool `json:"scope_blocks,omitempty" yaml:"scope-blocks"`

	Notes []string `json:"notes,omitempty" yaml:"notes"`
	Links []Page   `json:"links,omitempty" yaml:"links"` // the organisation's own pages
	Call  []Person `json:"call,omitempty" yaml:"call"`
}

// OfClient is what a card says of the client's own service, as the card of that
// service would say it.
func (c Card) OfClient() *Card {
	return &Card{Name: c.Name, Program: c.ClientProgram, Unit: c.ClientUnit, Log: c.ClientLog, Fresh: c.Fresh}
}

// PortUse is what one port, or a range of them, is for.
type PortUse struct {
	Port  uint16 `json:"port,omitempty" yaml:"port"`
	Range string `json:"range,omitempty" yaml:"range"` // "50000-50100", of ports chosen at run time
	For   string `json:"for" yaml:"for"`
	// NeededBy is the functions of the application that fail without it.
	NeededBy []string `json:"needed_by,omitempty" yaml:"needed-by"`
}

// Pair is an endpoint of a partner that must reach the application, and that it
// must reach. It may be written as the endpoint alone.
type Pair struct {
	Endpoint string `json:"endpoint" yaml:"endpoint"`
	// Trust is the file or folder of roots on the application's host by which
	// it judges the partner, in place of the system's.
	Trust string `json:"trust,omitempty" yaml:"trust"`
	// Metadata is the URL of what the partner says of itself for signing in
	// (SAML 2.0).
	Metadata string `json:"metadata,omitempty" yaml:"metadata"`
}

// plainPair is a pair without the short form.
type plainPair Pair

// UnmarshalYAML reads both forms.
func (p *Pair) UnmarshalYAML(unmarshal func(any) error) error {
	if unmarshal(&p.Endpoint) == nil {
		return nil
	}
	p.Endpoint = ""
	return unmarshal((*plainPair)(p))
}

// UnmarshalJSON reads both forms: older runs kept the endpoint alone.
func (p *Pair) UnmarshalJSON(text []byte) error {
	if json.Unmarshal(text, &p.Endpoint) == nil {
		return nil
	}
	p.Endpoint = ""
	return json.Unmarshal(text, (*plainPair)(p))
}

// SettingRule is a setting that must be right, on one side or on both.
type SettingRule struct {
	Name string `json:"name" yaml:"name"`
	// Is says what the value must be: "host", "port", "address", "url" or
	// "security" of the endpoint; "same", where all that are named must agree;
	// "value", of Value; "one-of", of OneOf.
	Is    string   `json:"is,omitempty" yaml:"is"`
	Value string   `json:"value,omitempty" yaml:"value"` // exactly this
	OneOf []string `json:"one_of,omitempty" yaml:"one-of"`
	// Set marks a list, of values parted by blanks or commas, whose order does
	// not count.
	Set    bool        `json:"set,omitempty" yaml:"set"`
	Client *SettingAt  `json:"client,omitempty" yaml:"client"`
	Server *SettingAt  `json:"server,omitempty" yaml:"server"`
	Copies []SettingAt `json:"copies,omitempty" yaml:"copies"` // further ones that must agree
}

// PlacesOn is where the setting stands on one side: the side's own first
// (nil if the card names none), and then its copies there.
func (r SettingRule) PlacesOn(side string) []*SettingAt {
	list := []*SettingAt{r.Client}
	if side == "server" {
		list[0] = r.Server
	}
	for i := range r.Copies {
		if on := r.Copies[i].On; on == side || on == "" && side == "client" {
			list = append(list, &r.Copies[i])
		}
	}
	return list
}

// SettingAt is where a setting stands: by its key in a format that is read, or
// by a pattern over lines, whose group "value" is what counts.
type SettingAt struct {
	On string `json:"on,omitempty" yaml:"on"` // of a copy: "client", if not said otherwise, or "server"
	// File is the file's path, or a key of the registry of Windows: then Key is a value of it.
	File string `json:"file" yaml:"file"`
	// "ini", "yaml", "json", …: one of the grammars of package settingsfile
	Format string `json:"format,omitempty" yaml:"format"`
	Key    string `json:"key,omitempty" yaml:"key"` // "portal.port"
	// Registry is how a card writes a key of the registry; it is kept as File.
	Registry string `json:"-" yaml:"registry"`
	Pattern  string `json:"pattern,omitempty" yaml:"pattern"`
}

// registryRoots is how keys of the registry of Windows begin.
var registryRoots = []string{`HKLM\`, `HKCU\`, `HKEY_LOCAL_MACHINE\`, `HKEY_CURRENT_USER\`}

// InRegistry reports whether the place is a value of the registry of Windows.
func (a SettingAt) InRegistry() bool {
	return slices.ContainsFunc(registryRoots, func(root string) bool {
		return len(a.File) > len(root) && strings.EqualFold(a.File[:len(root)], root)
	})
}

// Place is the file and the line of what was found, or the key of the registry.
func (a SettingAt) Place(line int) string {
	if a.InRegistry() {
		return a.File
	}
	return fmt.Sprintf("%s, line %d", a.File, line)
}

// Named is what the place is called where it is told.
func (a SettingAt) Named() string {
	if a.Key == "" {
		return "the line " + a.Pattern
	}
	return a.Key
}

// Sign is a mark of health.
type Sign struct {
	On     string `json:"on" yaml:"on"` // "client" or "server"
	File   string `json:"file,omitempty" yaml:"file"`
	Folder string `json:"folder,omitempty" yaml:"folder"`
	// an event log of Windows, by its name: "Application"
	Events   string `json:"events,omitempty" yaml:"events"`
	AtLeast  int    `json:"at_least,omitempty" yaml:"at-least"`   // files in the folder
	AtMost   int    `json:"at_most,omitempty" yaml:"at-most"`     // files of today in the folder: a log for each start
	Fresh    string `json:"fresh,omitempty" yaml:"fresh"`         // how lately it must have changed: "24h"
	LastLine string `json:"last_line,omitempty" yaml:"last-line"` // what its last line must hold
	Must     string `json:"must,omitempty" yaml:"must"`           // a line that must be there
	MustNot  string `json:"must_not,omitempty" yaml:"must-not"`   // a line that must not
	// of must and must-not: only lines so young count, by the times that they begin with
	Within string `json:"within,omitempty" yaml:"within"`
}

// CardAccount is the account that clients use.
type CardAccount struct {
	Name      string   `json:"name,omitempty" yaml:"name"`
	Mechanism string   `json:"mechanism,omitempty" yaml:"mechanism"`
	Groups    []string `json:"groups,omitempty" yaml:"groups"` // that it must be in, on the server
	Rights    []Right  `json:"rights,omitempty" yaml:"rights"` // that it must have there
}

// Right is what an account must be allowed: a privilege of SQL on "TABLE" or
// "SCHEMA.TABLE", on "schema NAME" or "database NAME"; or to "read" a path of
// the server.
type Right struct {
	May string `json:"may" yaml:"may"`
	On  string `json:"on" yaml:"on"`
}

// CardAnswer is the answer that is right.
type CardAnswer struct {
	Status   []int  `json:"status,omitempty" yaml:"status"`
	Contains string `json:"contains,omitempty" yaml:"contains"`
	Program  string `json:"program,omitempty" yaml:"program"` // what the server calls itself
}

// Reason is what a line of the application's log means.
type Reason struct {
	Log   string `json:"log" yaml:"log"`     // a regular expression
	Cause string `json:"cause" yaml:"cause"` // of the catalogue
	Says  string `json:"says,omitempty" yaml:"says"`
}

// Page is a page of the organisation's own.
type Page struct {
	Part string `json:"part" yaml:"part"` // a rung, or any word
	URL  string `json:"url" yaml:"url"`
}

// Person is whom to call.
type Person struct {
	Part string `json:"part" yaml:"part"`
	Who  string `json:"who" yaml:"who"`
}

// Settings is the settings that a card names, as one side has them.
type Settings struct {
	Side string        `json:"side"` // "client" or "server"
	List []SettingSeen `json:"list"`
	// Program is the client program that the card names, and where it was
	// found; an empty path: it is not installed.
	Program     string `json:"program,omitempty"`
	ProgramPath string `json:"program_path,omitempty"`
}

// SettingSeen is one setting as it was read. A value that is not known to be
// harmless is "…", and has a mark that tells it from others.
type SettingSeen struct {
	Rule  int       `json:"rule"` // the card's, from 0
	Copy  int       `json:"copy"` // 0: the setting itself; from 1: its copies
	At    SettingAt `json:"at"`
	Value string    `json:"value,omitempty"`
	Mark  string    `json:"mark,omitempty"`
	Line  int       `json:"line,omitempty"`
	// Changed is when its file was written last.
	Changed time.Time `json:"changed,omitzero"`
	// Missing says why there is no value: "no such file", "no such key",
	// "empty"; Unread, why it could not be read.
	Missing string `json:"missing,omitempty"`
	Unread  string `json:"unread,omitempty"`
	// Near is a line that looks as if it were meant: a misspelt key, or one
	// that is commented out.
	Near     string  `json:"near,omitempty"`
	NearLine int     `json:"near_line,omitempty"`
	Stray    []Stray `json:"stray,omitempty"`
	Clean    string  `json:"clean,omitempty"` // the value without them
}

// Signs is the marks of health that a card names, as one side has them.
type Signs struct {
	Side string     `json:"side"`
	List []SignSeen `json:"list"`
}

// SignSeen is one of them. Wrong is what is not as it should be.
type SignSeen struct {
	Sign   Sign   `json:"sign"`
	Wrong  string `json:"wrong,omitempty"`
	Unread string `json:"unread,omitempty"` // why nobody could look
}

// Of is what the sign is of: a file, a folder, an event log.
func (s Sign) Of() string { return s.File + s.Folder + s.Events }
