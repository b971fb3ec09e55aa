// Package fact holds what was seen: plain typed data with JSON names, each
// piece with its host, time and source, and no opinion in it.
//
// A [Set] is everything one run knows: what was asked, from where it looked,
// and the facts in the order in which they landed. It is written to disk as
// "uakari.facts/1" and can be weighed again at any time.
package fact

import (
	"net/netip"
	"strconv"
	"sync"
	"time"
)

// Format names the file format of a [Set].
const Format = "uakari.facts/1"

// Role says what part a vantage plays for the endpoint.
type Role string

const (
	Client  Role = "client"
	Server  Role = "server"
	Gateway Role = "gateway"
)

// Means says how a vantage is looked through.
type Means string

const (
	Here   Means = "here"
	SSH    Means = "ssh"
	Inside Means = "inside" // from within a container or a namespace of this host
	Record Means = "record"
	Broker Means = "broker" // by orders over a message broker
)

// Vantage is a host from which a run looks.
type Vantage struct {
	ID    string `json:"id"`
	Role  Role   `json:"role"`
	Host  string `json:"host"`
	Means Means  `json:"means"`
	// Implied marks the server side of the host the program runs on. It
	// counts as the server only if it holds the address that was tried.
	Implied bool `json:"implied,omitempty"`
	// Ended is when a record was made, by its own host's clock.
	Ended time.Time `json:"ended,omitzero"`
	// System is what it runs: "linux", "windows"; "" if it was not told.
	System string `json:"system,omitempty"`
}

// Kind is the sort of look that leaves facts.
type Kind string

const (
	LookZone      Kind = "zone"      // the authoritative servers of a name, each by itself
	LookNames     Kind = "names"     // hosts file and every resolver, for one name
	LookSession   Kind = "session"   // one connection, climbed as far as it goes
	LookEcho      Kind = "echo"      // a sign of life
	LookLink      Kind = "link"      // which neighbours answer on the link to an address
	LookClock     Kind = "clock"     // how far this host's clock is off, by its time servers
	LookOffers    Kind = "offers"    // which TLS versions and suites a server takes
	LookLibrary   Kind = "library"   // the TLS library of this host's programs, and its settings
	LookReset     Kind = "reset"     // with which hop limit a refusal arrives
	LookNothing   Kind = "nothing"   // none: another run begins, with its own number of connections
	LookClaims    Kind = "claims"    // which machines on the link have an address
	LookHops      Kind = "hops"      // the routers that say a packet died with them
	LookRoute     Kind = "route"     // which way this host sends to an address
	LookAddresses Kind = "addresses" // the addresses and links of this host
	LookListeners Kind = "listeners" // who holds a port, and who else of the same program listens
	LookService   Kind = "service"   // the unit and processes behind the endpoint
	LookLogin     Kind = "login"     // one login try

	LookIdentity   Kind = "identity"   // which host this is, and its clock
	LookRoutes     Kind = "routes"     // all routes and policy rules
	LookNeighbours Kind = "neighbours" // the whole neighbour table
	LookResolver   Kind = "resolver"   // how names are looked up, and the hosts file
	LookKernel     Kind = "kernel"     // settings and counters that decide connections
	LookPeers      Kind = "peers"      // who is connected to a port
	LookBarriers   Kind = "barriers"   // what stops packets beside filters and routes
	LookResources  Kind = "resources"  // what a service may run out of
	LookTables     Kind = "tables"     // the packet filters
	LookPackets    Kind = "packets"    // one flow on the links of a host
	LookContainers Kind = "containers" // what runs in containers, and which ports lead there
	LookUpstreams  Kind = "upstreams"  // the backends that a gateway passes requests to
	LookProxy      Kind = "proxy"      // the proxies that the client's environment names
	LookScript     Kind = "script"     // what a script says of an endpoint, that decides over proxies
	LookAccess     Kind = "access"     // the files by which a service lets addresses in
	LookAccount    Kind = "account"    // the state of one account of this host
	LookAccounts   Kind = "accounts"   // the state of accounts that a service keeps itself
	LookStored     Kind = "stored"     // the secrets that programs of this user would send by themselves
	LookPathRight  Kind = "path-right" // whether a user gets to a file
	LookThrough    Kind = "through"    // a tunnel through the proxy that the card names
	LookIdle       Kind = "idle"       // a connection that is left idle and used again
	LookLoad       Kind = "load"       // the same question, from many connections at once
	LookMapper     Kind = "mapper"     // what is registered at a port mapper
	LookSettings   Kind = "settings"   // the settings that the card names
	LookMetadata   Kind = "metadata"   // what a partner says of itself for signing in
	LookTold       Kind = "told"       // where the settings of the client's own programs send them
	LookSigns      Kind = "signs"      // the marks of health that the card names
	LookServices   Kind = "services"   // the service records of a name
	LookReverse    Kind = "reverse"    // the names of an address
	LookKeyFile    Kind = "key-file"   // the private key that this client would offer
	LookKeyTable   Kind = "key-table"  // the keys that services here hold for tickets
	LookCertFiles  Kind = "cert-files" // the certificates and keys that a service is set to
	LookTrust      Kind = "trust"      // the client's roots by which a chain from files would be judged
)

// Security says how an endpoint protects its session.
type Security string

const (
	Plain    Security = "none"
	TLS      Security = "tls"
	StartTLS Security = "starttls"
)

// Target is what one look looks at. Fields that a look has no use for are
// zero, so that equal looks compare equal.
type Target struct {
	Name     string     `json:"name,omitempty"` // as looked up, and as told to the server
	Addr     netip.Addr `json:"addr,omitzero"`
	Port     uint16     `json:"port,omitempty"`
	Scheme   string     `json:"scheme,omitempty"`
	Security Security   `json:"security,omitempty"`
	Path     string     `json:"path,omitempty"`
	Account  string     `json:"account,omitempty"`
	Small    bool       `json:"small,omitempty"`   // in small segments
	Again    int        `json:"again,omitempty"`   // counts looks that must be taken anew
	IdleS    int        `json:"idle_s,omitempty"`  // seconds that a connection is left idle
	Width    int        `json:"width,omitempty"`   // of requests side by side
	Hops     int        `json:"hops,omitempty"`    // that another answer had left, to be compared with
	Trust    string     `json:"trust,omitempty"`   // the store to judge by, in place of the host's own
	Issuers  string     `json:"issuers,omitempty"` // subjects of the roots that are wanted, DER in base64, by commas
	Watch    string     `json:"watch,omitempty"`   // what a look at packets does
	Apart    bool       `json:"apart,omitempty"`   // of another endpoint than the one that card and unit speak of
}

// Order is one look to take.
type Order struct {
	Look   Kind   `json:"look"`
	Target Target `json:"target"`
}

// Fact is one thing seen. Exactly one of the payload fields is set, or Failed
// is, when the look itself could not be taken.
type Fact struct {
	ID      string    `json:"id"` // e1, e2, … in the order of landing
	Vantage string    `json:"vantage"`
	At      time.Time `json:"at"`
	Order   Order     `json:"order"`
	Source  string    `json:"source"` // what was done: "tcp connect 10.20.0.14:443"
	Saw     string    `json:"saw"`    // what came of it, in one line: "no answer in 4 s"

	Failed    *Failure       `json:"failed,omitempty"`
	Setup     *ResolverSetup `json:"resolver_setup,omitempty"`
	HostsFile *HostsFile     `json:"hosts_file,omitempty"`
	Answer    *Answer        `json:"answer,omitempty"`
	System    *SystemLookup  `json:"system_lookup,omitempty"`
	Zone      *Zone          `json:"zone,omitempty"`
	Connect   *Connect       `json:"connect,omitempty"`
	Greeting  *Greeting      `json:"greeting,omitempty"`
	Upgrade   *Upgrade       `json:"upgrade,omitempty"`
	Handshake *Handshake     `json:"handshake,omitempty"`
	Trust     *Trust         `json:"trust,omitempty"`
	HostKey   *HostKey       `json:"host_key,omitempty"`
	Reply     *Reply         `json:"reply,omitempty"`
	Login     *Login         `json:"login,omitempty"`
	Echo      *Echo          `json:"echo,omitempty"`
	Route     *Route         `json:"route,omitempty"`
	Link      *Link          `json:"link,omitempty"`
	Hops      *Hops          `json:"hops,omitempty"`
	Claims    *Claims        `json:"claims,omitempty"`
	Reset     *ResetHops     `json:"reset,omitempty"`
	Offers    *Offers        `json:"offers,omitempty"`
	Library   *Library       `json:"library,omitempty"`
	Clock     *Clock         `json:"clock,omitempty"`
	Addresses *Addresses     `json:"addresses,omitempty"`
	Listeners *Listeners     `json:"listeners,omitempty"`
	Service   *Service       `json:"service,omitempty"`

	Identity   *Identity   `json:"identity,omitempty"`
	Routes     *Routes     `json:"routes,omitempty"`
	Neighbours *Neighbours `json:"neighbours,omitempty"`
	Kernel     *Kernel     `json:"kernel,omitempty"`
	Peers      *Peers      `json:"peers,omitempty"`
	Barriers   *Barriers   `json:"barriers,omitempty"`
	Resources  *Resources  `json:"resources,omitempty"`
	Tables     *Tables     `json:"tables,omitempty"`
	Access     *Access     `json:"access,omitempty"`
	Packets    *Packets    `json:"packets,omitempty"`
	Containers *Containers `json:"containers,omitempty"`
	Upstreams  *Upstreams  `json:"upstreams,omitempty"`
	CertFiles  *CertFiles  `json:"cert_files,omitempty"`
	Account    *Account    `json:"account,omitempty"`
	Accounts   *Accounts   `json:"accounts,omitempty"`
	Stored     *Stored     `json:"stored,omitempty"`
	PathRight  *PathRight  `json:"path_right,omitempty"`
	KeyTable   *KeyTable   `json:"key_table,omitempty"`

	Through        *Through        `json:"through,omitempty"`
	Idle           *Idle           `json:"idle,omitempty"`
	Load           *Load           `json:"load,omitempty"`
	Mapper         *Mapper         `json:"mapper,omitempty"`
	Settings       *Settings       `json:"settings,omitempty"`
	Metadata       *Metadata       `json:"metadata,omitempty"`
	Signs          *Signs          `json:"signs,omitempty"`
	Told           *Told           `json:"told,omitempty"`
	ServiceRecords *ServiceRecords `json:"service_records,omitempty"`
	Reverse        *Reverse        `json:"reverse,omitempty"`
	Proxy          *ProxySetting   `json:"proxy,omitempty"`
	KeyFile        *KeyFile        `json:"key_file,omitempty"`
}

// Payload is the one payload that is set, for showing as evidence; an empty one
// if there is none.
func (f Fact) Payload() any {
	switch {
	case f.Failed != nil:
		return f.Failed
	case f.Setup != nil:
		return f.Setup
	case f.HostsFile != nil:
		return f.HostsFile
	case f.Answer != nil:
		return f.Answer
	case f.System != nil:
		return f.System
	case f.Zone != nil:
		return f.Zone
	case f.Connect != nil:
		return f.Connect
	case f.Greeting != nil:
		return f.Greeting
	case f.Upgrade != nil:
		return f.Upgrade
	case f.Handshake != nil:
		return f.Handshake
	case f.Trust != nil:
		return f.Trust
	case f.HostKey != nil:
		return f.HostKey
	case f.Reply != nil:
		return f.Reply
	case f.Login != nil:
		return f.Login
	case f.Echo != nil:
		return f.Echo
	case f.Route != nil:
		return f.Route
	case f.Link != nil:
		return f.Link
	case f.Claims != nil:
		return f.Claims
	case f.Reset != nil:
		return f.Reset
	case f.Offers != nil:
		return f.Offers
	case f.Told != nil:
		return f.Told
	case f.Library != nil:
		return f.Library
	case f.Clock != nil:
		return f.Clock
	case f.Hops != nil:
		return f.Hops
	case f.Addresses != nil:
		return f.Addresses
	case f.Listeners != nil:
		return f.Listeners
	case f.Service != nil:
		return f.Service
	case f.Identity != nil:
		return f.Identity
	case f.Routes != nil:
		return f.Routes
	case f.Neighbours != nil:
		return f.Neighbours
	case f.Kernel != nil:
		return f.Kernel
	case f.Peers != nil:
		return f.Peers
	case f.Barriers != nil:
		return f.Barriers
	case f.Resources != nil:
		return f.Resources
	case f.Access != nil:
		return f.Access
	case f.Packets != nil:
		return f.Packets
	case f.Containers != nil:
		return f.Containers
	case f.Upstreams != nil:
		return f.Upstreams
	case f.CertFiles != nil:
		return f.CertFiles
	case f.Account != nil:
		return f.Account
	case f.Accounts != nil:
		return f.Accounts
	case f.Stored != nil:
		return f.Stored
	case f.Through != nil:
		return f.Through
	case f.Idle != nil:
		return f.Idle
	case f.Load != nil:
		return f.Load
	case f.Mapper != nil:
		return f.Mapper
	case f.Settings != nil:
		return f.Settings
	case f.Signs != nil:
		return f.Signs
	case f.Metadata != nil:
		return f.Metadata
	case f.ServiceRecords != nil:
		return f.ServiceRecords
	case f.Reverse != nil:
		return f.Reverse
	case f.KeyTable != nil:
		return f.KeyTable
	case f.PathRight != nil:
		return f.PathRight
	case f.Proxy != nil:
		return f.Proxy
	case f.KeyFile != nil:
		return f.KeyFile
	case f.Tables != nil:
		// The tables themselves are in the facts; they may be long.
		return map[string]any{"rules": f.Tables.Count, "unread": append([]string{}, f.Tables.Unread...)}
	}
	return struct{}{} // that there was nothing to see
}

// Failure says why something could not be looked at. An empty result never
// stands for it.
type Failure struct {
	What  string `json:"what"`            // "could not read the listeners"
	Why   string `json:"why"`             // "permission denied"
	Needs string `json:"needs,omitempty"` // the access that would show it: "root"
	// CutOff is that the look was under way when its time or the run was over.
	CutOff bool `json:"cut_off,omitempty"`
}

// Set is everything that one run knows. It is a value: With returns a new one.
type Set struct {
	Format     string    `json:"format"`
	Ask        Ask       `json:"ask"`
	Vantages   []Vantage `json:"vantages"`
	Facts      []Fact    `json:"facts"`
	Ended      time.Time `json:"ended,omitzero"`
	Incomplete string    `json:"incomplete,omitempty"` // "deadline" or "interrupted"
	// Behind is what was seen of the hops behind the endpoint, each traced on
	// its own from the host before it.
	Behind []Hop `json:"behind,omitempty"`

	memo *sync.Map
	// Supposed is changes of packet filters, commands by the vantage, of fixes that are rehearsed;
	// it is in no file.
	Supposed map[string][]string `json:"-"`
}

// Hop is the trace of a backend, from the vantage that needs it, or that of a
// partner which must be reached from there too.
type Hop struct {
	From string `json:"from"` // the vantage, as the set before calls it
	Pair bool   `json:"pair,omitempty"`
	Set  Set    `json:"set"`
}

// Memo keeps what is made from facts alone and is dear to make, such as
// decoded tables, for as long as the set grows: the same key, the same thing.
func (s Set) Memo(key any, make func() any) any {
	if s.memo == nil {
		return make()
	}
	if kept, ok := s.memo.Load(key); ok {
		return kept
	}
	made := make()
	s.memo.Store(key, made)
	return made
}

// New is the set that knows only what was asked.
func New(ask Ask, at []Vantage) Set {
	return Set{Format: Format, Ask: ask, Vantages: at, memo: &sync.Map{}}
}

// With is the set with more facts, numbered in the order given.
func (s Set) With(more ...Fact) Set {
	facts := make([]Fact, len(s.Facts), len(s.Facts)+len(more))
	copy(facts, s.Facts)
	for _, f := range more {
		f.ID = "e" + strconv.Itoa(len(facts)+1)
		facts = append(facts, f)
	}
	s.Facts = facts
	return s
}
