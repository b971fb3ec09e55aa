package filter

import (
	"bytes"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Bounds of what is read from files.
const (
	// MostText is the longest saved text that is read, in bytes.
	MostText  = 64 << 20
	mostRules = 1 << 20
)

// SyntaxError is a fault of a saved text.
type SyntaxError struct {
	Line, Column int
	What         string
}

func (e *SyntaxError) Error() string { return fmt.Sprintf("%d:%d: %s", e.Line, e.Column, e.What) }

// Parse reads saved tables, either nftables' JSON or the text of
// iptables-save(8), told apart by how they begin.
func Parse(text []byte) (*Ruleset, error) {
	if len(text) > MostText {
		return nil, &SyntaxError{1, 1, fmt.Sprintf("%d MiB of text; at most %d are read", len(text)>>20, MostText>>20)}
	}
	switch trimmed := bytes.TrimLeft(text, " \t\r\n"); {
	case len(trimmed) == 0:
		return nil, &SyntaxError{1, 1, "the file is empty; expected nftables JSON or iptables-save text"}
	case trimmed[0] == '{':
		return FromJSON(text)
	case trimmed[0] == '*' || trimmed[0] == '#' || trimmed[0] == ':' || trimmed[0] == '-':
		return FromSaved(text, nil)
	case bytes.HasPrefix(trimmed, []byte("table ")):
		return nil, &SyntaxError{1, 1, "this is nft's own notation; expected its JSON (nft -j list ruleset) or iptables-save text"}
	}
	return nil, &SyntaxError{1, 1, "expected nftables JSON (nft -j list ruleset) or iptables-save text"}
}

// xtPriorities are the priorities at which the kernel calls each of the older
// tables (include/uapi/linux/netfilter_ipv4.h).
var xtPriorities = map[string]int{"raw": -300, "mangle": -150, "nat": -100, "filter": 0, "security": 50}

var xtHooks = map[string]Hook{"PREROUTING": Prerouting, "INPUT": Input, "FORWARD": Forward, "OUTPUT": Output, "POSTROUTING": Postrouting}

// savedReader reads the text of iptables-save.
type savedReader struct {
	set    *Ruleset
	ipsets map[string]*Set
	table  *Table
	line   int
	words  []word
	four   bool // something in the block belongs to IPv4
	sixth  bool // or to IPv6
	hint   Family
	seen   int
}

type word struct {
	text   string
	column int
	quoted bool
}

// FromSaved reads the text of iptables-save(8). IP sets are by their names.
func FromSaved(text []byte, ipsets map[string]*Set) (*Ruleset, error) {
	if len(text) > MostText {
		return nil, &SyntaxError{1, 1, fmt.Sprintf("%d MiB of text; at most %d are read", len(text)>>20, MostText>>20)}
	}
	in := &savedReader{set: &Ruleset{}, ipsets: ipsets}
	for len(text) > 0 {
		in.line++
		line := text
		if at := bytes.IndexByte(text, '\n'); at >= 0 {
			line, text = text[:at], text[at+1:]
		} else {
			text = nil
		}
		if err := in.read(strings.TrimSuffix(string(line), "\r")); err != nil {
			return nil, err
		}
	}
	if in.table != nil {
		return nil, in.wrong(1, "the table %s ends without COMMIT: the dump is cut off", in.table.Name)
	}
	if len(in.set.Tables) == 0 {
		return nil, in.wrong(1, "no table; expected a line such as *filter")
	}
	for _, t := range in.set.Tables {
		for _, c := range t.order {
			for _, r := range c.Rules {
				for i := range r.Body {
					if a := r.Body[i].Act; a != nil && (a.Doing == Jump || a.Doing == Goto) && t.Chains[a.Chain] == nil {
						r.Body[i] = puzzle("the chain " + a.Chain + " does not exist")
					}
				}
			}
		}
	}
	return in.set, in.set.finish()
}

func (in *savedReader) wrong(column int, format string, args ...any) error {
	return &SyntaxError{in.line, column, fmt.Sprintf(format, args...)}
}

func (in *savedReader) read(line string) error {
	if !utf8.ValidString(line) {
		return in.wrong(1, "not UTF-8")
	}
	trimmed := strings.TrimSpace(line)
	switch {
	case trimmed == "":
		return nil
	case trimmed[0] == '#':
		if strings.Contains(trimmed, "ip6tables-save") {
			in.hint = IPv6
		} else if strings.Contains(trimmed, "iptables-save") {
			in.hint = IPv4
		}
		return nil
	case trimmed[0] == '*':
		return in.begin(trimmed[1:])
	case in.table == nil:
		return in.wrong(1, "%q outside a table; expected a line such as *filter", shorten(trimmed))
	case trimmed == "COMMIT":
		in.end()
		return nil
	case trimmed[0] == ':':
		return in.declare(trimmed[1:])
	}
	words, err := in.split(line)
	if err != nil {
		return err
	}
	if len(words) > 0 && strings.HasPrefix(words[0].text, "[") {
		words = words[1:] // counters
	}
	if len(words) < 2 || words[0].text != "-A" && words[0].text != "--append" {
		return in.wrong(1, "%q: expected -A CHAIN, a chain's declaration, or COMMIT", shorten(trimmed))
	}
	chain := in.table.Chains[words[1].text]
	if chain == nil {
		return in.wrong(words[1].column, "the chain %q was not declared", shorten(words[1].text))
	}
	in.set.rules++
	if in.set.rules > mostRules {
		return in.wrong(1, "more than %d rules", mostRules)
	}
	r := &Rule{Chain: chain, Number: len(chain.Rules) + 1, Text: strings.TrimSpace(line[words[0].column-1:])}
	if err := in.rule(r, words[2:]); err != nil {
		return err
	}
	chain.Rules = append(chain.Rules, r)
	return nil
}

func shorten(s string) string {
	const most = 60
	if len(s) > most {
		return strings.ToValidUTF8(s[:most], "") + "…"
	}
	return s
}

func (in *savedReader) begin(name string) error {
	if in.table != nil {
		return in.wrong(1, "the table %s ends without COMMIT", in.table.Name)
	}
	if _, ok := xtPriorities[name]; !ok {
		return in.wrong(2, "%q: expected raw, mangle, nat, filter or security", shorten(name))
	}
	in.table = &Table{Name: name, Xtable: OverNft, Chains: map[string]*Chain{}, Sets: map[string]*Set{}, Family: in.hint}
	in.four, in.sixth = false, false
	return nil
}

func (in *savedReader) end() {
	t := in.table
	if t.Family == 0 {
		switch {
		case in.sixth && !in.four:
			t.Family = IPv6
		case in.four:
			t.Family = IPv4
		default:
			t.Family = Inet // nothing tells: it may be either's
		}
	}
	in.set.Tables = append(in.set.Tables, t)
	in.table = nil
}

func (in *savedReader) declare(text string) error {
	f := strings.Fields(text)
	if len(f) < 2 {
		return in.wrong(1, "expected :CHAIN POLICY [packets:bytes]")
	}
	if in.table.Chains[f[0]] != nil {
		return in.wrong(2, "the chain %q is declared twice", shorten(f[0]))
	}
	if len(in.table.order) >= mostChains {
		return in.wrong(2, "too many chains")
	}
	in.seen++
	c := &Chain{Table: in.table, Name: f[0], Hook: NoHook, seen: uint64(in.seen)}
	if hook, ok := xtHooks[f[0]]; ok && f[1] != "-" {
		c.Hook, c.Type, c.Priority, c.Drop = hook, "filter", xtPriorities[in.table.Name], f[1] == "DROP"
		if f[1] != "DROP" && f[1] != "ACCEPT" {
			return in.wrong(2, "policy %q: expected ACCEPT or DROP", shorten(f[1]))
		}
		if in.table.Name == "nat" {
			c.Type = "nat"
			if hook == Input || hook == Postrouting {
				c.Priority = atSNAT
			}
		}
	}
	in.table.add(c)
	return nil
}

// split splits a line into words; quotes are of double quotation marks, with
// backslashes before what would end them.
func (in *savedReader) split(line string) ([]word, error) {
	var words []word
	for at := 0; at < len(line); {
		switch c := line[at]; {
		case c == ' ' || c == '\t':
			at++
		case c == '"':
			begin := at
			var b strings.Builder
			at++
			for at < len(line) && line[at] != '"' {
				if line[at] == '\\' && at+1 < len(line) {
					at++
				}
				b.WriteByte(line[at])
				at++
			}
			if at == len(line) {
				return nil, in.wrong(begin+1, "the quotation does not end")
			}
			at++
			words = append(words, word{b.String(), begin + 1, true})
		default:
			begin := at
			for at < len(line) && line[at] != ' ' && line[at] != '\t' {
				at++
			}
			words = append(words, word{line[begin:at], begin + 1, false})
		}
	}
	return words, nil
}

// ruleReader reads the words of one rule.
type ruleReader struct {
	*savedReader
	words  []word
	match  string // the last -m
	proto  uint8
	icmp6  bool
	body   []Op
	target []Op
	marks  map[string]string // options of a target
	final  *Act
	not    bool
	ranges map[string]bool
}

func (in *savedReader) rule(r *Rule, words []word) error {
	q := &ruleReader{savedReader: in, words: words, marks: map[string]string{}}
	for len(q.words) > 0 {
		w := q.next()
		if w.text == "!" && !w.quoted {
			q.not = true
			continue
		}
		if err := q.option(r, w); err != nil {
			return err
		}
		q.not = false
	}
	r.Body = append(q.body, q.target...)
	return nil
}

func (q *ruleReader) next() word {
	w := q.words[0]
	q.words = q.words[1:]
	return w
}

// value is an option's value; a "!" before it is older notation.
func (q *ruleReader) value(option word) (word, error) {
	if len(q.words) > 0 && q.words[0].text == "!" {
		q.not = !q.not
		q.next()
	}
	if len(q.words) == 0 {
		return word{}, q.wrong(option.column, "%s without a value", option.text)
	}
	return q.next(), nil
}

func (q *ruleReader) add(ops ...Op) { q.body = append(q.body, ops...) }

// longNames are the long names of options that most rules have.
var longNames = map[string]string{"--source": "-s", "--src": "-s", "--destination": "-d", "--dst": "-d", "--protocol": "-p", "--proto": "-p", "--in-interface": "-i",
	"--out-interface": "-o", "--jump": "-j", "--goto": "-g", "--match": "-m", "--fragment": "-f", "--source-port": "--sport", "--destination-port": "--dport",
	"--source-ports": "--sports", "--destination-ports": "--dports"}

func (q *ruleReader) option(r *Rule, w word) error {
	name := w.text
	if short, ok := longNames[name]; ok {
		name = short
	}
	read, ok := savedOptions[name]
	if !ok {
		return q.foreign(w)
	}
	if name == "-f" || name == "--syn" {
		return read(q, r, w, word{})
	}
	v, err := q.value(w)
	if err != nil {
		return err
	}
	return read(q, r, w, v)
}

// foreign skips an option that is not understood, with its values. What
// belongs to a match makes the rule's condition unknown.
func (q *ruleReader) foreign(w word) error {
	if !strings.HasPrefix(w.text, "-") {
		return q.wrong(w.column, "%q: expected an option", shorten(w.text))
	}
	var values []string
	for len(q.words) > 0 && !strings.HasPrefix(q.words[0].text, "-") && q.words[0].text != "!" {
		values = append(values, q.next().text)
	}
	q.marks[w.text] = strings.Join(values, " ")
	if q.final != nil {
		return nil // of the target, which was judged by its name, or is now
	}
	if !slices.Contains(decorations, w.text) {
		q.add(opaque(fmt.Sprintf("%s %s is not understood", q.match, w.text), stateful[q.match]))
	}
	return nil
}

// decorations are options that change nothing.
var decorations = []string{"--comment", "-c", "--set-counters"}

// savedOptions is how each option is read.
var savedOptions map[string]func(*ruleReader, *Rule, word, word) error

func init() {
	savedOptions = map[string]func(*ruleReader, *Rule, word, word) error{
		"-s": (*ruleReader).address, "-d": (*ruleReader).address,
		"-i": (*ruleReader).link, "-o": (*ruleReader).link,
		"-p": (*ruleReader).protocol, "-m": (*ruleReader).matchName,
		"-j": (*ruleReader).jump, "-g": (*ruleReader).jump,
		"-f":      func(q *ruleReader, _ *Rule, _, _ word) error { return q.fragment() },
		"--sport": (*ruleReader).port, "--dport": (*ruleReader).port,
		"--sports": (*ruleReader).ports, "--dports": (*ruleReader).ports, "--ports": (*ruleReader).ports,
		"--syn": func(q *ruleReader, _ *Rule, _, _ word) error {
			q.add(whenFlags(FIN|SYN|RST|ACK, SYN, q.not))
			return nil
		},
		"--tcp-flags": (*ruleReader).flags,
		"--icmp-type": (*ruleReader).icmp, "--icmpv6-type": (*ruleReader).icmp,
		"--ctstate": (*ruleReader).states, "--state": (*ruleReader).states, "--ctstatus": (*ruleReader).status,
		"--ctdir": (*ruleReader).direction, "--mark": (*ruleReader).mark,
		"--src-range": (*ruleReader).addrRange, "--dst-range": (*ruleReader).addrRange,
		"--src-type": (*ruleReader).addrType, "--dst-type": (*ruleReader).addrType,
		"--match-set": (*ruleReader).set, "--pkt-type": (*ruleReader).packetType,
		"--uid-owner": (*ruleReader).ownerOf, "--gid-owner": (*ruleReader).ownerOf,
		"--comment":     func(q *ruleReader, r *Rule, _, v word) error { r.Comment = v.text; return nil },
		"--reject-with": (*ruleReader).rejectWith, "--to-destination": (*ruleReader).to, "--to-source": (*ruleReader).to, "--to-ports": (*ruleReader).toPorts,
		"--set-xmark": (*ruleReader).setMark, "--set-mark": (*ruleReader).setMark, "--and-mark": (*ruleReader).setMark, "--or-mark": (*ruleReader).setMark,
	}
}

func (q *ruleReader) address(_ *Rule, w, v word) error {
	source := w.text == "-s" || w.text == "--source" || w.text == "--src"
	var each []*Cond
	for text := range strings.SplitSeq(v.text, ",") {
		p, err := prefix(text)
		if err != nil {
			return q.wrong(v.column, "%q: expected an address or a net", shorten(text))
		}
		q.of(p.Addr().Is6())
		each = append(each, whenAddr(source, p, false).Cond)
	}
	c := &Cond{Op: AnyOf, Conds: each}
	switch {
	case len(each) == 1 && q.not:
		c = each[0]
		c.Op = NotEqual
	case len(each) == 1:
		c = each[0]
	case q.not:
		c.Op = NoneOf
	}
	q.add(Op{Cond: c})
	return nil
}

// of notes of which family the table is.
func (q *ruleReader) of(six bool) {
	if six {
		q.sixth = true
	} else {
		q.four = true
	}
}

// prefix reads an address with a prefix length or a mask behind it, if any.
func prefix(text string) (netip.Prefix, error) {
	host, bits, masked := strings.Cut(text, "/")
	addr, err := netip.ParseAddr(host)
	if err != nil || addr.Zone() != "" {
		return netip.Prefix{}, fmt.Errorf("not an address")
	}
	if !masked {
		return netip.PrefixFrom(addr, addr.BitLen()), nil
	}
	if mask, err := netip.ParseAddr(bits); err == nil {
		if mask.BitLen() != addr.BitLen() {
			return netip.Prefix{}, fmt.Errorf("not a mask")
		}
		n, b := 0, mask.AsSlice()
		for n < len(b)*8 && b[n/8]&(0x80>>(n%8)) != 0 {
			n++
		}
		if !bytes.Equal(b, maskOf(n, len(b))) {
			return netip.Prefix{}, fmt.Errorf("the mask has holes")
		}
		return netip.PrefixFrom(addr, n), nil
	}
	n, err := strconv.Atoi(bits)
	if err != nil || n < 0 || n > addr.BitLen() {
		return netip.Prefix{}, fmt.Errorf("not a prefix length")
	}
	return netip.PrefixFrom(addr, n), nil
}

func (q *ruleReader) link(_ *Rule, w, v word) error {
	if v.text == "+" {
		return nil // any link
	}
	q.add(whenLink(w.text == "-i" || w.text == "--in-interface", v.text, q.not))
	return nil
}

func (q *ruleReader) protocol(_ *Rule, _, v word) error {
	name := strings.ToLower(v.text)
	if name == "all" || name == "0" {
		return nil
	}
	n, ok := protoNumbers[name]
	if !ok {
		number, err := strconv.ParseUint(name, 10, 8)
		if err != nil {
			return q.wrong(v.column, "%q: expected a protocol", shorten(v.text))
		}
		n = uint32(number)
	}
	q.proto = uint8(n)
	switch n {
	case ICMPv6:
		q.of(true)
	case ICMP:
		q.of(false)
	}
	q.add(whenProto(uint8(n), q.not))
	q.match = name
	return nil
}

// known are the matches whose options are read here.
var known = []string{"tcp", "udp", "sctp", "dccp", "udplite", "icmp", "icmp6", "icmpv6", "ipv6-icmp", "multiport", "conntrack", "state", "set", "iprange", "addrtype", "mark", "connmark",
	"comment", "owner", "pkttype"}

func (q *ruleReader) matchName(_ *Rule, _, v word) error {
	q.match = v.text
	if slices.Contains(known, v.text) {
		return nil
	}
	why := "the match " + v.text + " is not understood"
	switch {
	case stateful[v.text]:
		why = "it depends on " + v.text
	case v.text == "mac":
		why = "the sender's hardware address is not known"
	case v.text == "length":
		why = "the packet's length is not known"
	case v.text == "ttl" || v.text == "hl":
		why = "the hop limit is not known"
	}
	q.add(opaque(why, stateful[v.text]))
	// Its options say nothing more.
	for len(q.words) > 0 && !slices.Contains([]string{"-m", "-j", "-g", "--jump", "--goto", "--match", "-s", "-d", "-i", "-o", "-p"}, q.words[0].text) {
		if q.words[0].text == "!" && len(q.words) > 1 && slices.Contains([]string{"-s", "-d", "-i", "-o", "-p"}, q.words[1].text) {
			break
		}
		q.next()
	}
	return nil
}

func (q *ruleReader) fragment() error {
	// A first packet is no later fragment.
	if !q.not {
		q.add(Op{Cond: &Cond{Op: AnyOf}})
	}
	return nil
}

// portRange reads a port, or two with a colon between.
func (q *ruleReader) portRange(v word, text string, between string) (Range, error) {
	from, to, ranged := strings.Cut(text, between)
	if !ranged {
		to = from
	}
	if ranged && from == "" {
		from = "0"
	}
	if ranged && to == "" {
		to = "65535"
	}
	var out Range
	for i, t := range []string{from, to} {
		n, err := strconv.ParseUint(t, 10, 16)
		if err != nil {
			number, ok := services[t]
			if !ok {
				return out, q.wrong(v.column, "%q: expected a port", shorten(text))
			}
			n = uint64(number)
		}
		if i == 0 {
			out.Low = uint16(n)
		} else {
			out.High = uint16(n)
		}
	}
	return out, nil
}

func (q *ruleReader) port(_ *Rule, w, v word) error {
	r, err := q.portRange(v, v.text, ":")
	if err != nil {
		return err
	}
	q.add(whenPort(strings.HasPrefix(w.text, "--s"), r.Low, r.High, q.not))
	return nil
}

func (q *ruleReader) ports(_ *Rule, w, v word) error {
	var list []Range
	for text := range strings.SplitSeq(v.text, ",") {
		r, err := q.portRange(v, text, ":")
		if err != nil {
			return err
		}
		list = append(list, r)
	}
	which := map[byte]uint8{'s': 0, 'd': 1, 'p': 2}[w.text[2]]
	q.add(multiport(which, list, q.not)...)
	return nil
}

func (q *ruleReader) flags(_ *Rule, w, v word) error {
	if len(q.words) == 0 {
		return q.wrong(w.column, "--tcp-flags: expected two lists of flags")
	}
	second := q.next()
	var masks [2]uint8
	for i, each := range []word{v, second} {
		for name := range strings.SplitSeq(each.text, ",") {
			switch bit, ok := flagBits[strings.ToLower(name)]; {
			case ok:
				masks[i] |= uint8(bit)
			case name == "ALL":
				masks[i] |= 0x3f
			case name != "NONE":
				return q.wrong(each.column, "%q: expected flags of TCP", shorten(name))
			}
		}
	}
	q.add(whenFlags(masks[0], masks[1], q.not))
	return nil
}

func (q *ruleReader) icmp(_ *Rule, w, v word) error {
	six := w.text == "--icmpv6-type"
	q.of(six)
	text, code, coded := strings.Cut(v.text, "/")
	if text == "any" && !six {
		return nil
	}
	names, low, high := icmp4Types, uint8(0), uint8(255)
	if six {
		names = icmp6Types
	}
	kind, ok := names[text]
	if !ok {
		n, err := strconv.ParseUint(text, 10, 8)
		if err != nil {
			q.add(opaque("the ICMP type "+v.text+" is not understood", false))
			return nil
		}
		kind = uint32(n)
	}
	if coded {
		n, err := strconv.ParseUint(code, 10, 8)
		if err != nil {
			return q.wrong(v.column, "%q: expected TYPE or TYPE/CODE", shorten(v.text))
		}
		low, high = uint8(n), uint8(n)
	}
	if kind == 255 && !six {
		return nil
	}
	q.add(icmpType(uint8(kind), low, high, q.not, true)...)
	return nil
}

var xtStates = map[string]uint32{"INVALID": ctInvalid, "ESTABLISHED": ctEstablished, "RELATED": ctRelated, "NEW": ctNew, "SNAT": xtSNAT, "DNAT": xtDNAT, "UNTRACKED": xtUntracked}

func (q *ruleReader) states(_ *Rule, _, v word) error {
	var bits uint32
	for name := range strings.SplitSeq(v.text, ",") {
		bit, ok := xtStates[name]
		if !ok {
			return q.wrong(v.column, "%q: expected states such as NEW or ESTABLISHED", shorten(name))
		}
		bits |= bit
	}
	q.add(ctStates(bits, q.not))
	return nil
}

func (q *ruleReader) status(_ *Rule, _, v word) error {
	var bits uint32
	for name := range strings.SplitSeq(v.text, ",") {
		bit, ok := map[string]uint32{"EXPECTED": 1, "SEEN_REPLY": 2, "ASSURED": 4, "CONFIRMED": 8}[name]
		if !ok {
			q.add(opaque("--ctstatus "+name+" is not understood", false))
			return nil
		}
		bits |= bit
	}
	q.add(whenBits(tracked(ctStatus), bits, q.not))
	return nil
}

func (q *ruleReader) direction(_ *Rule, _, v word) error {
	want := byte(0)
	if v.text == "REPLY" {
		want = 1
	}
	q.add(when(tracked(ctDirection), equalOrNot(q.not), []byte{want}))
	return nil
}

// valueMask reads a number with a mask behind it, if any.
func valueMask(text string) (value, mask uint32, ok bool) {
	v, m, masked := strings.Cut(text, "/")
	a, err := strconv.ParseUint(v, 0, 32)
	b := uint64(1<<32 - 1)
	if masked {
		var err2 error
		if b, err2 = strconv.ParseUint(m, 0, 32); err2 != nil {
			return 0, 0, false
		}
	}
	return uint32(a), uint32(b), err == nil
}

func (q *ruleReader) mark(_ *Rule, _, v word) error {
	value, mask, ok := valueMask(v.text)
	if !ok {
		return q.wrong(v.column, "%q: expected VALUE or VALUE/MASK", shorten(v.text))
	}
	part := meta(metaMark)
	if q.match == "connmark" {
		part = tracked(ctMark)
	}
	q.add(whenMark(part, value, mask, q.not))
	return nil
}

func (q *ruleReader) addrRange(_ *Rule, w, v word) error {
	from, to, ok := strings.Cut(v.text, "-")
	if !ok {
		to = from
	}
	low, err := netip.ParseAddr(from)
	high, err2 := netip.ParseAddr(to)
	if err != nil || err2 != nil || low.Is6() != high.Is6() {
		return q.wrong(v.column, "%q: expected ADDRESS-ADDRESS", shorten(v.text))
	}
	q.of(low.Is6())
	q.add(whenAddrs(w.text == "--src-range", low, high, q.not))
	return nil
}

func (q *ruleReader) addrType(_ *Rule, w, v word) error {
	var kinds uint32
	for name := range strings.SplitSeq(v.text, ",") {
		n, ok := typeNumbers[strings.ToLower(name)]
		if !ok {
			return q.wrong(v.column, "%q: expected a type of address such as LOCAL", shorten(name))
		}
		kinds |= 1 << n
	}
	addr := uint8(fibDaddr)
	if w.text == "--src-type" {
		addr = fibSaddr
	}
	q.add(whenXTType(addr, kinds, q.not, 0))
	return nil
}

func (q *ruleReader) set(_ *Rule, w, v word) error {
	if len(q.words) == 0 {
		return q.wrong(w.column, "--match-set NAME: expected src or dst after it")
	}
	var sources []bool
	for name := range strings.SplitSeq(q.next().text, ",") {
		sources = append(sources, name == "src")
	}
	s := q.ipsets[v.text]
	if s == nil {
		q.add(opaque("the set "+v.text+" was not read", false))
		return nil
	}
	q.add(whenMember(s, sources, s.KeyLen > 8 || q.hint == IPv6, q.not))
	return nil
}

func (q *ruleReader) packetType(_ *Rule, _, v word) error {
	n, ok := map[string]byte{"unicast": 0, "host": 0, "broadcast": 1, "multicast": 2, "otherhost": 3}[v.text]
	if !ok {
		return q.wrong(v.column, "%q: expected unicast, broadcast or multicast", shorten(v.text))
	}
	q.add(when(meta(metaPkttype), equalOrNot(q.not), []byte{n}))
	return nil
}

func (q *ruleReader) ownerOf(*Rule, word, word) error {
	q.add(owner())
	return nil
}

func (q *ruleReader) jump(_ *Rule, w, v word) error {
	name := v.text
	if len(q.words) >= 0 && q.final != nil {
		return q.wrong(w.column, "a second %s", w.text)
	}
	a := &Act{}
	q.final = a
	switch name {
	case "ACCEPT":
		a.Doing = Accept
	case "DROP":
		a.Doing = Drop
	case "RETURN":
		a.Doing = Return
	case "REJECT":
		a.Doing = Reject
	case "QUEUE", "NFQUEUE":
		a.Doing = Queue
	case "DNAT":
		a.Doing = DNAT
	case "SNAT":
		a.Doing = SNAT
	case "MASQUERADE":
		a.Doing = Masquerade
	case "REDIRECT":
		a.Doing = Redirect
	case "MARK":
		a.Doing = Puzzle
		a.Why = "what MARK sets is not understood"
	case "CONNMARK":
		q.connmark(a)
	case "NOTRACK":
		a.Doing = NoTrack
	case "CT":
		a.Doing, a.Text = Nothing, "ct"
		for _, each := range q.words {
			if each.text == "--notrack" {
				a.Doing = NoTrack
			}
		}
	case "NETMAP":
		a.Doing, a.Why = Puzzle, "addresses are mapped net to net"
	default:
		switch {
		case q.table.Chains[name] != nil:
			a.Doing, a.Chain = Jump, name
			if w.text == "-g" || w.text == "--goto" {
				a.Doing = Goto
			}
		case harmless[name]:
			a.Doing, a.Text = Nothing, strings.ToLower(name)
		case strings.ToUpper(name) == name:
			a.Doing, a.Why = Puzzle, "the target "+name+" is not understood"
		default:
			a.Doing, a.Chain = Jump, name // declared later, or missing
		}
	}
	q.target = []Op{{Act: a}}
	return nil
}

// connmark reads which way a mark is copied.
func (q *ruleReader) connmark(a *Act) {
	a.Doing, a.Why = Puzzle, "what CONNMARK does is not understood"
	masked := slices.ContainsFunc(q.words, func(w word) bool {
		return (strings.HasSuffix(w.text, "mask")) && strings.HasPrefix(w.text, "--")
	})
	full := true
	for i, w := range q.words {
		if strings.HasSuffix(w.text, "mask") && i+1 < len(q.words) && q.words[i+1].text != "0xffffffff" {
			full = false
		}
	}
	for _, w := range q.words {
		switch {
		case masked && !full:
		case w.text == "--save-mark":
			a.Doing = SaveMark
		case w.text == "--restore-mark":
			a.Doing = RestoreMark
		}
	}
}

func (q *ruleReader) rejectWith(_ *Rule, _, v word) error {
	if q.final == nil {
		return q.wrong(v.column, "--reject-with without -j REJECT")
	}
	with, ok := rejectNames[v.text]
	if !ok {
		return q.wrong(v.column, "%q: expected a kind of refusal such as icmp-port-unreachable", shorten(v.text))
	}
	if strings.HasPrefix(v.text, "icmp6") {
		q.of(true)
	} else if strings.HasPrefix(v.text, "icmp-") {
		q.of(false)
	}
	q.final.With = with
	return nil
}

// rejectNames are the kinds of refusal as iptables writes them.
var rejectNames = map[string]Refusal{"icmp-net-unreachable": ByNetUnreachable, "net-unreach": ByNetUnreachable, "icmp-host-unreachable": ByHostUnreachable,
	"host-unreach": ByHostUnreachable, "icmp-proto-unreachable": ByProtoUnreachable, "proto-unreach": ByProtoUnreachable, "icmp-port-unreachable": ByPortUnreachable,
	"port-unreach": ByPortUnreachable, "icmp-net-prohibited": ByNetProhibited, "net-prohib": ByNetProhibited, "icmp-host-prohibited": ByHostProhibited,
	"host-prohib": ByHostProhibited, "icmp-admin-prohibited": ByAdminProhibited, "admin-prohib": ByAdminProhibited, "tcp-reset": ByReset, "tcp-rst": ByReset,
	"icmp6-no-route": ByNetUnreachable, "no-route": ByNetUnreachable, "icmp6-adm-prohibited": ByAdminProhibited, "adm-prohibited": ByAdminProhibited,
	"icmp6-addr-unreachable": ByHostUnreachable, "addr-unreach": ByHostUnreachable, "icmp6-port-unreachable": ByPortUnreachable,
	"icmp6-policy-fail": ByPolicyFail, "icmp6-reject-route": ByRejectRoute}

// to reads where a translation leads: ADDRESS[-ADDRESS][:PORT[-PORT]].
func (q *ruleReader) to(_ *Rule, w, v word) error {
	if q.final == nil || q.final.Doing != DNAT && q.final.Doing != SNAT {
		return q.wrong(w.column, "%s without a translation", w.text)
	}
	text := v.text
	host, ports := text, ""
	if rest, ok := strings.CutPrefix(text, "["); ok {
		inside, after, closed := strings.Cut(rest, "]")
		if !closed {
			return q.wrong(v.column, "%q: expected ADDRESS or ADDRESS:PORT", shorten(text))
		}
		host, ports = inside, strings.TrimPrefix(after, ":")
	} else if strings.Count(text, ":") == 1 {
		host, ports, _ = strings.Cut(text, ":")
	}
	if host != "" {
		from, to, ranged := strings.Cut(host, "-")
		if !ranged {
			to = from
		}
		low, err := netip.ParseAddr(from)
		high, err2 := netip.ParseAddr(to)
		if err != nil || err2 != nil {
			return q.wrong(v.column, "%q: expected ADDRESS or ADDRESS:PORT", shorten(text))
		}
		q.of(low.Is6())
		q.final.Addr, q.final.AddrTo = constant(low.AsSlice()), constant(high.AsSlice())
	}
	if ports != "" {
		return q.toPorts(nil, w, word{ports, v.column, false})
	}
	return nil
}

func (q *ruleReader) toPorts(_ *Rule, w, v word) error {
	if q.final == nil {
		return q.wrong(w.column, "%s without a translation", w.text)
	}
	text, _, _ := strings.Cut(v.text, "/")
	r, err := q.portRange(v, text, "-")
	if err != nil {
		return err
	}
	q.final.Port, q.final.PortTo = constant(be16(r.Low)), constant(be16(r.High))
	return nil
}

func (q *ruleReader) setMark(_ *Rule, w, v word) error {
	value, mask, ok := valueMask(v.text)
	if !ok || q.final == nil {
		return q.wrong(v.column, "%q: expected VALUE or VALUE/MASK after a target", shorten(v.text))
	}
	doing := SetMark
	if q.final.Doing == Puzzle && strings.Contains(q.final.Why, "CONNMARK") {
		doing = SetCTMark
	}
	switch w.text {
	case "--set-mark":
		mask |= value
	case "--and-mark":
		mask, value = ^value, 0
	case "--or-mark":
		mask = value
	}
	if mask == 0 && value != 0 {
		return nil // bits are turned over: left as not understood
	}
	q.final.Doing, q.final.Parts, q.final.Mask = doing, constant(le32(value)), mask
	if mask == 0 {
		q.final.Doing, q.final.Text = Nothing, "mark"
	}
	return nil
}
