package fact

import (
	"net/netip"
	"slices"
	"time"
)

// ResolverSetup is how a host looks names up (resolv.conf(5)).
type ResolverSetup struct {
	Path      string           `json:"path"`
	Order     []string         `json:"order,omitempty"` // the sources of host names (nsswitch.conf(5))
	Servers   []netip.AddrPort `json:"servers"`
	Search    []string         `json:"search,omitempty"`
	Ndots     int              `json:"ndots"`
	TimeoutMS float64          `json:"timeout_ms"` // wait per try
	Attempts  int              `json:"attempts"`
	// Upstreams is the resolvers that a caching one on this host asks.
	Upstreams []netip.AddrPort `json:"upstreams,omitempty"`
}

// HostsFile is what a hosts file says of one name (hosts(5)). No addresses:
// the file was read and does not name it.
type HostsFile struct {
	Path  string       `json:"path"`
	Name  string       `json:"name"`
	Line  int          `json:"line,omitempty"` // of the first entry
	Addrs []netip.Addr `json:"addrs,omitempty"`
}

// AnswerOutcome tells the ends of one DNS question apart.
type AnswerOutcome string

const (
	Addressed     AnswerOutcome = "addresses"
	NoSuchName    AnswerOutcome = "no-such-name" // RFC 1035 code 3
	NoData        AnswerOutcome = "no-data"      // RFC 2308 section 2.2
	ServerFailure AnswerOutcome = "server-failure"
	QueryRefused  AnswerOutcome = "refused"
	NoReply       AnswerOutcome = "silent"
	Unreachable   AnswerOutcome = "unreachable" // the resolver's host refused the packet
	BadReply      AnswerOutcome = "bad-reply"   // not a DNS message, or not to our question
	CutOff        AnswerOutcome = "cut-off"     // too large for UDP, and TCP gives nothing
)

// Answer is one resolver's answer to one question.
type Answer struct {
	Resolver      netip.AddrPort `json:"resolver"`
	Asked         string         `json:"asked"` // the full name that was asked for
	Type          string         `json:"type"`  // "A" or "AAAA"
	Outcome       AnswerOutcome  `json:"outcome"`
	Addrs         []netip.Addr   `json:"addrs,omitempty"`
	Aliases       []string       `json:"aliases,omitempty"` // the CNAME chain
	TTL           uint32         `json:"ttl,omitempty"`     // seconds, the least of the chain
	Authoritative bool           `json:"authoritative,omitempty"`
	// Unchecked is the addresses that come with checking switched off (RFC
	// 4035 section 3.2.2), where none come with it on.
	Unchecked []netip.Addr `json:"unchecked,omitempty"`
	// Denies is the zone around the name, where the resolver says that it is not
	// there either.
	Denies string `json:"denies,omitempty"`
	// Verified is whether the resolver says that it has checked the signatures.
	Verified bool    `json:"verified,omitempty"`
	Edns     bool    `json:"edns,omitempty"` // it speaks the extensions of RFC 6891
	TookMS   float64 `json:"took_ms"`
}

// Zone is the authoritative servers of the zone that a name is in.
type Zone struct {
	Name    string       `json:"name"` // of the zone, "varzea.example."
	Said    string       `json:"said"` // the resolver that named its servers
	Servers []ZoneServer `json:"servers"`
}

// ZoneServer is one authoritative server's own answer.
type ZoneServer struct {
	Name    string        `json:"name"`
	Addr    netip.Addr    `json:"addr,omitzero"` // invalid: its name gives none
	Outcome AnswerOutcome `json:"outcome"`
	Lame    bool          `json:"lame,omitempty"` // it answers without authority
	Serial  uint32        `json:"serial,omitempty"`
	Addrs   []netip.Addr  `json:"addrs,omitempty"`
	Aliases []string      `json:"aliases,omitempty"`
	TookMS  float64       `json:"took_ms"`
}

// SystemLookup is what programs of this host get for a name from the system's
// own look-up (getaddrinfo(3)).
type SystemLookup struct {
	Addrs  []netip.Addr `json:"addrs"`
	TookMS float64      `json:"took_ms"`
}

// Reverse is the names that an address has, and those of them that lead back
// to it.
type Reverse struct {
	Addr  netip.Addr `json:"addr"`
	Names []string   `json:"names,omitempty"`
	Back  []string   `json:"back,omitempty"`
}

// ServiceRecords is one resolver's service records for a name (RFC 2782).
type ServiceRecords struct {
	Resolver netip.AddrPort  `json:"resolver"`
	Asked    string          `json:"asked"`
	Outcome  AnswerOutcome   `json:"outcome"`
	List     []ServiceRecord `json:"list,omitempty"`
	TookMS   float64         `json:"took_ms"`
}

// ServiceRecord is one of them.
type ServiceRecord struct {
	Target   string `json:"target"`
	Port     uint16 `json:"port"`
	Priority uint16 `json:"priority"`
	Weight   uint16 `json:"weight"`
}

// ConnectOutcome tells the ends of one connect apart.
type ConnectOutcome string

const (
	Connected  ConnectOutcome = "connected"
	Silent     ConnectOutcome = "silent"
	Reset      ConnectOutcome = "reset" // refused by a TCP reset
	ICMP       ConnectOutcome = "icmp"  // refused by an ICMP message
	LocalError ConnectOutcome = "local" // the client's own kernel refused
)

// Connect is one TCP connect.
type Connect struct {
	Outcome ConnectOutcome `json:"outcome"`
	Local   netip.AddrPort `json:"local,omitzero"` // the client's own side, once known
	Errno   string         `json:"errno,omitempty"`
	ICMP    *ICMPError     `json:"icmp,omitempty"`
	TookMS  float64        `json:"took_ms"`
}

// ICMPError is a refusal by ICMP (RFC 792, RFC 4443) and who sent it.
type ICMPError struct {
	From    netip.Addr `json:"from"`
	Type    uint8      `json:"type"`
	Code    uint8      `json:"code"`
	Version int        `json:"version"` // 4 or 6
}

// EmptyDatagram is what is asked where no question is known: what comes back
// shows that somebody is there, and no more.
const EmptyDatagram = "an empty datagram"

// Ending says how a wait for bytes ended.
type Ending string

const (
	Bytes     Ending = "bytes"     // something came
	Closed    Ending = "closed"    // an orderly end, without what was waited for
	ResetMid  Ending = "reset"     // a reset on a connection that was made
	Stalled   Ending = "stalled"   // nothing (more) until time was up
	Malformed Ending = "malformed" // something came that is not this protocol
	Done      Ending = "done"      // all that was waited for came
)

// Greeting is what a server said before it was asked anything.
type Greeting struct {
	Ending   Ending  `json:"ending"`
	Head     string  `json:"head,omitempty"`     // its beginning, made printable
	Protocol string  `json:"protocol,omitempty"` // what it looks like: "ssh", "smtp", …
	Refusal  string  `json:"refusal,omitempty"`  // the greeting is a refusal; its text
	Code     string  `json:"code,omitempty"`     // and the protocol's code for it
	TookMS   float64 `json:"took_ms"`
}

// Upgrade is the question, inside a protocol, whether it goes on over TLS.
type Upgrade struct {
	Ending  Ending  `json:"ending"`
	Offered bool    `json:"offered"`
	Head    string  `json:"head,omitempty"`
	TookMS  float64 `json:"took_ms"`
}

// Handshake is one TLS handshake, made without checking the certificate: the
// chain is kept whole for weighing.
type Handshake struct {
	Ending     Ending   `json:"ending"`
	ServerName string   `json:"server_name,omitempty"` // the name indicated (RFC 6066)
	Version    string   `json:"version,omitempty"`
	Cipher     string   `json:"cipher,omitempty"`
	Suite      uint16   `json:"suite,omitempty"`  // its number
	Speaks     string   `json:"speaks,omitempty"` // the application protocol that was agreed on (RFC 7301)
	Alert      int      `json:"alert,omitempty"`  // sent by the server (RFC 8446 section 6); 0: none
	Error      string   `json:"error,omitempty"`
	Begun      bool     `json:"begun,omitempty"` // something came before it ended
	Chain      [][]byte `json:"chain,omitempty"` // DER, in the order sent
	Spoke      string   `json:"spoke,omitempty"` // the protocol that answered instead of TLS
	// Wanted is whether the server asked for a client certificate, and
	// Authorities whose it would take, as far as it says.
	Wanted      bool     `json:"wanted,omitempty"`
	Authorities []string `json:"authorities,omitempty"`
	// Sent is the certificates that the client presented, DER; what a refusal
	// of them says may come with the first answer only (RFC 8446 section 4.4).
	Sent [][]byte `json:"sent,omitempty"`
	// Staple is the status that the server sent along (RFC 6066 section 8, an
	// OCSP response of RFC 6960), as it is.
	Staple []byte  `json:"staple,omitempty"`
	TookMS float64 `json:"took_ms"`
}

// HostKey is the key that an SSH server shows, and how it stands to what this
// user knows of the host (sshd(8), known_hosts).
type HostKey struct {
	Type        string   `json:"type"`
	Fingerprint string   `json:"fingerprint"`     // "SHA256:…"
	State       string   `json:"state"`           // "known", "unknown", "changed", "other-type", "revoked" or "failed"
	Known       []string `json:"known,omitempty"` // where other keys of the host stand: "/root/.ssh/known_hosts:4: …"
	Files       []string `json:"files,omitempty"` // that were read
	Error       string   `json:"error,omitempty"`
}

// TrustStore is the source of what was seen of a client's roots.
const TrustStore = "trust store"

// Trust is what a host's trust store holds that could vouch for a chain: the
// roots whose subject is an issuer or subject named in it.
type Trust struct {
	Source string   `json:"source"`         // file or folder read
	None   bool     `json:"none,omitempty"` // the system has none in any of the usual places
	Count  int      `json:"count"`          // roots in the store
	Roots  [][]byte `json:"roots,omitempty"`
	// Beside is that it is not the store that the client goes by: the system's,
	// where a card names another one.
	Beside bool `json:"beside,omitempty"`
	// Presents is that this client presents a certificate of its own to who asks for one.
	Presents bool `json:"presents,omitempty"`
	// Revoked is the revocation lists in the store by issuers of the chain
	// (RFC 5280 section 5), DER.
	Revoked [][]byte `json:"revoked,omitempty"`
}

// Reply is the answer to one question in the endpoint's own protocol.
type Reply struct {
	Ending   Ending    `json:"ending"`
	Protocol string    `json:"protocol"`           // what was asked in; "http"
	Asked    string    `json:"asked"`              // "GET /"
	Status   int       `json:"status,omitempty"`   // HTTP status, SMTP code
	Reason   string    `json:"reason,omitempty"`   // the status in the server's words
	Code     string    `json:"code,omitempty"`     // the protocol's own code for a refusal
	Text     string    `json:"text,omitempty"`     // its text, made printable
	Whole    bool      `json:"whole,omitempty"`    // the text is all there is
	Program  string    `json:"program,omitempty"`  // what the server calls itself
	Date     time.Time `json:"date,omitzero"`      // the server's clock, where it tells
	Location string    `json:"location,omitempty"` // where an HTTP redirect leads
	Spoke    string    `json:"spoke,omitempty"`    // the protocol that answered instead
	Refused  bool      `json:"refused,omitempty"`  // the server wants an account first
	LeftOut  bool      `json:"left_out,omitempty"` // parameters that hold a secret were not asked with
	// Vague is a refusal of what the server need not answer: nothing was answered.
	Vague   bool     `json:"vague,omitempty"`
	Ways    []string `json:"ways,omitempty"` // to sign in, as far as it names them
	SentMS  float64  `json:"sent_ms"`
	FirstMS float64  `json:"first_ms"` // to the first byte
	TookMS  float64  `json:"took_ms"`  // to the last byte read
}

// Echo is one ICMP echo. No reply proves nothing.
type Echo struct {
	Answered bool    `json:"answered"`
	Left     int     `json:"left,omitempty"` // hops that the reply had left when it came
	TookMS   float64 `json:"took_ms,omitempty"`
}

// Link is the neighbours that a host knows on the link to an address, by its
// kernel's table (neighbour states of ip-neighbour(8)).
type Link struct {
	Dev    string       `json:"dev"`
	State  string       `json:"state"`            // of the address itself; "": not in the table
	Answer []netip.Addr `json:"answer,omitempty"` // other neighbours that answer now
}

// Clock is what the time servers that a host is set to follow say of its clock.
type Clock struct {
	List []ClockSeen `json:"list,omitempty"`
}

// ClockSeen is the word of one of them, in milliseconds.
type ClockSeen struct {
	Server   string  `json:"server"`
	AheadMS  float64 `json:"ahead_ms"`  // of this host's clock
	WithinMS float64 `json:"within_ms"` // how uncertain that is
}

// Offers is what a TLS server takes of hellos that each offer one version and
// every suite.
type Offers struct {
	List []Offer `json:"list"`
}

// Offer is the server's word on one of them. No cipher: it is not taken.
type Offer struct {
	Version string `json:"version"` // "TLS 1.2"
	Cipher  string `json:"cipher,omitempty"`
	Alert   int    `json:"alert,omitempty"`
	Own     bool   `json:"own,omitempty"` // of the suites of this host's own library only
}

// ResetHops is how the hops that a refusal by a reset had left when it came
// compare with those of another answer: "same", "more" or "fewer".
type ResetHops struct {
	Beside  int    `json:"beside"` // of the other answer
	Compare string `json:"compare"`
}

// Claims is which machines on the links of a host answer for addresses.
type Claims struct {
	List []Claim `json:"list"`
}

// Claim is the machines that answer for one address on one link.
type Claim struct {
	Addr netip.Addr `json:"addr"`
	Dev  string     `json:"dev"`
	Own  bool       `json:"own,omitempty"`  // it is the host's that asked: nobody else should answer
	MACs []string   `json:"macs,omitempty"` // "02:00:0a:14:00:0e"
}

// Hops is the routers on the way to an address, the nearest first, as far as
// they say that packets with too small a hop limit die with them. Those that
// say nothing are invalid addresses.
type Hops struct {
	Routers []netip.Addr `json:"routers"`
}

// Last is the number of the farthest router that said anything, from 1; 0 for
// none.
func (h Hops) Last() int {
	for i, r := range slices.Backward(h.Routers) {
		if r.IsValid() {
			return i + 1
		}
	}
	return 0
}

// Route is which way a host sends packets for an address, as its kernel
// answers.
type Route struct {
	Outcome string     `json:"outcome"` // "found", or the errno's name
	Type    string     `json:"type,omitempty"`
	Dev     string     `json:"dev,omitempty"`
	Via     netip.Addr `json:"via,omitzero"`
	Source  netip.Addr `json:"source,omitzero"`
	Table   int        `json:"table,omitempty"`
	// Entry is the route that decides, as the table has it: "unreachable
	// 10.20.0.0/24"; "none" when no entry matches.
	Entry string `json:"entry,omitempty"`
}

// LoginOutcome tells the ends of one login try apart.
type LoginOutcome string

const (
	LoginAccepted LoginOutcome = "accepted"
	LoginRefused  LoginOutcome = "refused"  // by a code or a word of the protocol
	LoginCut      LoginOutcome = "cut"      // presented, and then closed or reset without a word: a refusal
	LoginMore     LoginOutcome = "more"     // the server asks for something else, which was not given
	LoginStalled  LoginOutcome = "stalled"  // presented, and no verdict came in time
	LoginWithheld LoginOutcome = "withheld" // nothing was presented; the text says why
	// it broke off before anything was presented, or in what is not the protocol
	LoginFailed LoginOutcome = "failed"
)

// Tried reports whether the server had the account in front of it, and so gave
// a verdict or withheld one.
func (o LoginOutcome) Tried() bool {
	return o == LoginAccepted || o == LoginRefused || o == LoginCut || o == LoginMore || o == LoginStalled
}

// Login is the one login try of a run. What was presented is not in it.
type Login struct {
	Account   string       `json:"account"`
	Outcome   LoginOutcome `json:"outcome"`
	Mechanism string       `json:"mechanism,omitempty"`
	Offered   []string     `json:"offered,omitempty"` // mechanisms
	Code      string       `json:"code,omitempty"`    // the protocol's own
	Text      string       `json:"text,omitempty"`
	// Routine is where in its own source the server says so, which is the same
	// in every language (PostgreSQL, field R of an ErrorResponse).
	Routine string    `json:"routine,omitempty"`
	Needs   string    `json:"needs,omitempty"`   // what would let a withheld account be tried: "--in-the-clear"
	Clock   time.Time `json:"clock,omitzero"`    // the server's, where a refusal tells it
	Key     string    `json:"key,omitempty"`     // the fingerprint of the key that was presented
	Keys    []string  `json:"keys,omitempty"`    // of all that were to be offered, in this order, and where they are:
	KeysIn  string    `json:"keys_in,omitempty"` // "the agent"
	// KeyWrong is why SSH clients use no such key file: others may read it.
	KeyWrong string  `json:"key_wrong,omitempty"`
	Ticket   *Ticket `json:"ticket,omitempty"`
	// Lacks is the rights that the card wants and the account does not have, as
	// its own session was told.
	Lacks  []LackingRight `json:"lacks,omitempty"`
	TookMS float64        `json:"took_ms"`
}

// LackingRight is a right that is missing.
type LackingRight struct {
	Right Right  `json:"right"`
	Level string `json:"level"` // where it is missing: "schema readings", "table readings.levels"
	// Absent is that there is no such thing; Unknown, why nobody could tell.
	Absent  bool   `json:"absent,omitempty"`
	Unknown string `json:"unknown,omitempty"`
	// Hidden is that it was not shown: it is not there, or this account may not
	// see it. Told is the server's own words.
	Hidden bool   `json:"hidden,omitempty"`
	Told   string `json:"told,omitempty"`
}

// KeyFile is the private key that this client would offer. Of the key itself
// nothing is kept.
type KeyFile struct {
	Path string `json:"path"`
	// Wrong is why SSH clients do not use it: others may read it.
	Wrong string `json:"wrong,omitempty"`
	// Secret is that a secret was given beside it.
	Secret bool `json:"secret,omitempty"`
}

// Ticket is a Kerberos ticket for a service; its key is not in it.
type Ticket struct {
	Service    string `json:"service"`    // "postgres/ledger.varzea.example@VARZEA.EXAMPLE"
	Version    int    `json:"version"`    // of the service's key
	Encryption int    `json:"encryption"` // its number (RFC 3961)
}

// KeyTable is the entries of a host's key table, without the keys.
type KeyTable struct {
	Path    string     `json:"path"`
	Absent  bool       `json:"absent,omitempty"` // there is no such file
	Entries []KeyEntry `json:"entries"`
}

// KeyEntry is one key's name.
type KeyEntry struct {
	Principal  string `json:"principal"`
	Version    int    `json:"version"`
	Encryption int    `json:"encryption"`
}

// Idle is a connection that was left idle and then used again.
type Idle struct {
	WaitMS float64 `json:"wait_ms"`
	Ending Ending  `json:"ending"` // of the second question
	TookMS float64 `json:"took_ms"`
}

// Load is the same question, asked from so many connections at once.
type Load struct {
	Width  int    `json:"width"`
	Asked  int    `json:"asked"`
	Failed int    `json:"failed"`
	Why    string `json:"why,omitempty"` // of the last failure
	// Unfinished is how many of the failed had no answer yet when they were no
	// longer waited for.
	Unfinished int     `json:"unfinished,omitempty"`
	ForMS      float64 `json:"for_ms"`
	MedianMS   float64 `json:"median_ms"` // to the first byte, of what did not fail
	Late95MS   float64 `json:"late95_ms"`
	MostMS     float64 `json:"most_ms"`
}

// Metadata is what a partner says of itself for signing in, as it was fetched.
type Metadata struct {
	URL       string    `json:"url"`
	Status    int       `json:"status,omitempty"`
	Entity    string    `json:"entity,omitempty"`    // its name for itself
	Until     time.Time `json:"until,omitzero"`      // how long it may be used
	Locations []string  `json:"locations,omitempty"` // where it takes messages
	Certs     [][]byte  `json:"certs,omitempty"`     // that it signs with, DER
	// Untrusted is why the partner's own certificate is not vouched for here.
	Untrusted string `json:"untrusted,omitempty"`
	Wrong     string `json:"wrong,omitempty"` // why there is none, or none that can be read
}

// Through is a tunnel to the endpoint that a proxy was asked for.
type Through struct {
	Proxy  string `json:"proxy"`
	Status int    `json:"status"` // 0: it gave no answer
	Open   bool   `json:"open"`
	Error  string `json:"error,omitempty"` // why it gave none
}
