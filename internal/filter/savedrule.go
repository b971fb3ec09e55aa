package filter

import (
	"bytes"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// ruleReader reads the words of one rule.
type ruleReader struct {
	*savedReader
	words  []word
	match  string // the last -m
	proto  uint8
	body   []Op
	target []Op
	marks  map[string]string // options of a target
	final  *Act
	not    bool
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
var longNames = map[string]string{
	"--source":            "-s",
	"--src":               "-s",
	"--destination":       "-d",
	"--dst":               "-d",
	"--protocol":          "-p",
	"--proto":             "-p",
	"--in-interface":      "-i",
	"--out-interface":     "-o",
	"--jump":              "-j",
	"--goto":              "-g",
	"--match":             "-m",
	"--fragment":          "-f",
	"--source-port":       "--sport",
	"--destination-port":  "--dport",
	"--source-ports":      "--sports",
	"--destination-ports": "--dports",
}

func (q *ruleReader) option(r *Rule, w word) error {
	name := w.text
	if short, ok := longNames[name]; ok {
		name = short
	}
	read, ok := savedOptions()[name]
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
func savedOptions() map[string]func(*ruleReader, *Rule, word, word) error {
	savedOptionsOnce.Do(makeSavedOptions)
	return savedOptionsMade
}

// Tables of methods that use them in turn are made when they are first used.
var (
	savedOptionsOnce sync.Once
	savedOptionsMade map[string]func(*ruleReader, *Rule, word, word) error
)

func makeSavedOptions() {
	savedOptionsMade = map[string]func(*ruleReader, *Rule, word, word) error{
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
		"--reject-with": (*ruleReader).rejectWith, "--to-destination": (*ruleReader).to,
		"--to-source": (*ruleReader).to, "--to-ports": (*ruleReader).toPorts,
		"--set-xmark": (*ruleReader).setMark, "--set-mark": (*ruleReader).setMark,
		"--and-mark": (*ruleReader).setMark, "--or-mark": (*ruleReader).setMark, "--xor-mark": (*ruleReader).setMark,
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
var known = []string{
	"tcp",
	"udp",
	"sctp",
	"dccp",
	"udplite",
	"icmp",
	"icmp6",
	"icmpv6",
	"ipv6-icmp",
	"multiport",
	"conntrack",
	"state",
	"set",
	"iprange",
	"addrtype",
	"mark",
	"connmark",
	"comment",
	"owner",
	"pkttype",
}

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
	for len(q.words) > 0 && !slices.Contains([]string{"-m", "-j", "-g", "--jump", "--goto", "--match", "-s", "-d",
		"-i", "-o", "-p"}, q.words[0].text) {
		if q.words[0].text == "!" && len(q.words) > 1 &&
			slices.Contains([]string{"-s", "-d", "-i", "-o", "-p"}, q.words[1].text) {
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
