package filter

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Dump is the answers of the kernel when it is asked for its nftables over
// netlink: each message from its family header on (struct nfgenmsg of
// include/uapi/linux/netfilter/nfnetlink.h).
type Dump struct {
	Tables, Chains, Sets, Elements, Rules [][]byte
	// IPSets are the kernel's IP sets, by the index by which rules name them.
	IPSets map[uint16]*Set
	Links  map[uint32]Link
}

// Bounds of what is read.
const (
	mostChains = 1 << 16
	mostSets   = 1 << 16
)

// attr is one netlink attribute.
type attr struct {
	kind uint16
	data []byte
}

// attrs reads attributes (struct nlattr). What is cut off ends the list.
func attrs(b []byte) fields {
	list := make(fields, 0, 8)
	for len(b) >= 4 {
		n := int(binary.LittleEndian.Uint16(b))
		kind := binary.LittleEndian.Uint16(b[2:]) &^ 0xc000
		if n < 4 || n > len(b) {
			break
		}
		list = append(list, attr{kind, b[4:n]})
		b = b[min(len(b), (n+3)&^3):]
	}
	return list
}

// fields is attributes, of which the last of a kind counts. There are few of them:
// they are found faster by looking through than by a table.
type fields []attr

func (f fields) find(kind uint16) (data []byte, ok bool) {
	for _, a := range slices.Backward(f) {
		if a.kind == kind {
			return a.data, true
		}
	}
	return nil, false
}

func (f fields) get(kind uint16) []byte {
	data, _ := f.find(kind)
	return data
}

func (f fields) text(kind uint16) string {
	return strings.TrimRight(string(f.get(kind)), "\x00")
}

func (f fields) number(kind uint16) uint32 {
	if b := f.get(kind); len(b) >= 4 {
		return binary.BigEndian.Uint32(b)
	}
	return 0
}

func (f fields) long(kind uint16) uint64 {
	if b := f.get(kind); len(b) >= 8 {
		return binary.BigEndian.Uint64(b)
	}
	return 0
}

// FromNetlink reads a dump. What it does not understand makes single rules,
// sets or chains unknown; an error is what contradicts itself.
func FromNetlink(d Dump) (*Ruleset, error) {
	r := &Ruleset{Links: d.Links}
	in := &dumpReader{set: r, ipsets: d.IPSets, tables: map[tableKey]*Table{}}
	for _, b := range d.Tables {
		in.table(b)
	}
	for i, b := range d.Chains {
		if i == mostChains {
			return nil, errors.New("too many chains")
		}
		in.chain(b)
	}
	for i, b := range d.Sets {
		if i == mostSets {
			return nil, errors.New("too many sets")
		}
		in.newSet(b)
	}
	for _, b := range d.Elements {
		in.elements(b)
	}
	for _, t := range r.Tables {
		for _, s := range t.Sets {
			s.finish()
		}
	}
	for _, b := range d.Rules {
		in.rule(b)
	}
	return r, r.finish()
}

// finish binds jumps to their chains, and looks for loops.
func (r *Ruleset) finish() error {
	for _, t := range r.Tables {
		t.share = shared{}
		for _, s := range t.Sets {
			for i := range s.Elems {
				s.Elems[i].Verdict.bind(t)
			}
			if s.Other != nil {
				s.Other.Verdict.bind(t)
			}
		}
		for _, c := range t.order {
			for _, rule := range c.Rules {
				for i := range rule.Body {
					rule.Body[i].Act.bind(t)
				}
			}
		}
	}
	for _, t := range r.Tables {
		if loop := t.loop(); loop != "" {
			return fmt.Errorf("table %s: chain %s jumps in a loop", t.Title(), loop)
		}
		t.recognise()
	}
	r.arrange()
	return nil
}

func (a *Act) bind(t *Table) {
	if a == nil {
		return
	}
	if a.Doing == Jump || a.Doing == Goto {
		a.target = t.Chains[a.Chain]
	}
	if a.Doing == VerdictMap && a.Set != nil && a.Set.Name == "" {
		for i := range a.Set.Elems {
			a.Set.Elems[i].Verdict.bind(t)
		}
	}
}

// targets are the chains that an act may lead to.
func (a *Act) targets() []*Chain {
	switch {
	case a == nil:
		return nil
	case a.target != nil:
		return []*Chain{a.target}
	case a.Doing == VerdictMap && a.Set != nil:
		var list []*Chain
		for i := range a.Set.Elems {
			if v := a.Set.Elems[i].Verdict; v != nil && v.target != nil {
				list = append(list, v.target)
			}
		}
		if a.Set.Other != nil && a.Set.Other.Verdict != nil && a.Set.Other.Verdict.target != nil {
			list = append(list, a.Set.Other.Verdict.target)
		}
		return list
	}
	return nil
}

// loop finds a chain that leads back to itself; "" if there is none.
func (t *Table) loop() string {
	const entered, done = 1, 2
	marks := map[*Chain]int{}
	var visit func(*Chain, int) string
	visit = func(c *Chain, depth int) string {
		if marks[c] == entered || depth > mostChains {
			return c.Name
		}
		if marks[c] == done {
			return ""
		}
		marks[c] = entered
		for _, r := range c.Rules {
			for i := range r.Body {
				for _, target := range r.Body[i].Act.targets() {
					if name := visit(target, depth+1); name != "" {
						return name
					}
				}
			}
		}
		marks[c] = done
		return ""
	}
	for _, c := range t.order {
		if name := visit(c, 0); name != "" {
			return name
		}
	}
	return ""
}

// recognise tells tables of iptables from those of nft by the names that
// only it uses together (iptables-nft(8)).
func (t *Table) recognise() {
	if t.Xtable != NotXtables || t.Family != IPv4 && t.Family != IPv6 {
		return
	}
	if !slices.Contains([]string{"raw", "mangle", "nat", "filter", "security"}, t.Name) {
		return
	}
	for _, c := range t.order {
		if c.Hook != NoHook &&
			!slices.Contains([]string{"PREROUTING", "INPUT", "FORWARD", "OUTPUT", "POSTROUTING"}, c.Name) {
			return
		}
	}
	t.Xtable = OverNft
}

type tableKey struct {
	family Family
	name   string
}

type dumpReader struct {
	set    *Ruleset
	ipsets map[uint16]*Set
	tables map[tableKey]*Table
}

// family splits a message into its family and its attributes.
func family(b []byte) (Family, fields, bool) {
	if len(b) < 4 {
		return 0, nil, false
	}
	return Family(b[0]), attrs(b[4:]), true
}

func (in *dumpReader) table(b []byte) {
	fam, f, ok := family(b)
	if !ok || f.number(2)&1 != 0 { // a dormant table is not in force
		return
	}
	t := &Table{Family: fam, Name: f.text(1), Chains: map[string]*Chain{}, Sets: map[string]*Set{}, handle: f.long(4)}
	in.tables[tableKey{fam, t.Name}] = t
	in.set.Tables = append(in.set.Tables, t)
}

func (in *dumpReader) chain(b []byte) {
	fam, f, ok := family(b)
	t := in.tables[tableKey{fam, f.text(1)}]
	if !ok || t == nil {
		return
	}
	c := &Chain{Table: t, Name: f.text(3), Hook: NoHook, Type: f.text(7), seen: t.handle<<32 | f.long(2)&0xffffffff}
	if hook, base := f.find(4); base {
		h := attrs(hook)
		c.Hook, c.Priority = Hook(h.number(1)), int(int32(h.number(2)))
		c.Drop = len(f.get(5)) >= 4 && f.number(5) == 0
		if fam == Netdev { // its hooks have numbers of their own (NF_NETDEV_INGRESS, NF_NETDEV_EGRESS)
			c.Hook = Ingress + min(c.Hook, 1)
		}
		if c.Hook == Ingress || c.Hook == Egress {
			c.Links = linksOf(h)
		}
		switch {
		case fam == Bridge:
			in.set.Opaque = append(
				in.set.Opaque,
				fmt.Sprintf("chain %s of table %s filters at the link", c.Name, t.Title()),
			)
			c.Hook = NoHook
		case fam == ARP:
			in.set.Opaque = append(
				in.set.Opaque,
				fmt.Sprintf("chain %s of table %s filters address resolution", c.Name, t.Title()),
			)
			c.Hook = NoHook
		}
	}
	t.add(c)
}

// linksOf is the links of a hook: one by its name, or several, each by its name or by what
// it begins with (NFTA_HOOK_DEV, NFTA_HOOK_DEVS).
func linksOf(hook fields) []string {
	var names []string
	for _, a := range attrs(hook.get(4)) {
		name := strings.TrimRight(string(a.data), "\x00")
		if a.kind == 2 {
			name += "*"
		}
		names = append(names, name)
	}
	if name := hook.text(3); name != "" && !slices.Contains(names, name) {
		names = append(names, name)
	}
	return names
}

// sees reports whether a chain at a link's hook is called for a link.
func (c *Chain) sees(link string) bool {
	return slices.ContainsFunc(c.Links, func(name string) bool {
		start, all := strings.CutSuffix(name, "*")
		return name == link || all && strings.HasPrefix(link, start)
	})
}

func (t *Table) add(c *Chain) {
	t.Chains[c.Name] = c
	t.order = append(t.order, c)
}

func (in *dumpReader) newSet(b []byte) {
	fam, f, ok := family(b)
	t := in.tables[tableKey{fam, f.text(1)}]
	if !ok || t == nil {
		return
	}
	flags := f.number(3)
	s := &Set{Name: f.text(2), KeyLen: int(f.number(5)), Interval: flags&4 != 0, IsMap: flags&8 != 0}
	if flags&0x40 != 0 {
		s.Opaque = "the map " + s.Name + " gives objects"
	}
	if flags&0x80 != 0 || flags&4 != 0 {
		for _, a := range attrs(attrs(f.get(9)).get(2)) {
			s.Fields = append(s.Fields, int(attrs(a.data).number(1)))
		}
		if len(s.Fields) < 2 {
			s.Fields = nil
		}
	}
	t.Sets[s.Name] = s
}

func (in *dumpReader) elements(b []byte) {
	fam, f, ok := family(b)
	t := in.tables[tableKey{fam, f.text(1)}]
	if !ok || t == nil || t.Sets[f.text(2)] == nil {
		return
	}
	s := t.Sets[f.text(2)]
	for _, a := range attrs(f.get(3)) {
		s.element(attrs(a.data))
	}
}

// Flags of elements.
const elemEnd, elemOther = 1, 2

func (s *Set) element(f fields) {
	e := Elem{}
	if data, ok := f.find(2); ok {
		d := attrs(data)
		e.Data = d.get(1)
		if v, ok := d.find(2); ok {
			e.Verdict = verdictAct(attrs(v))
		}
	}
	for _, expr := range append(attrs(f.get(11)), attr{1, f.get(7)}) {
		if name := attrs(expr.data).text(1); name != "" && name != "counter" && name != "last" {
			e.State = "a " + name + " is attached to an element of the set " + s.Name
		}
	}
	flags := f.number(3)
	if flags&elemOther != 0 {
		s.Other = &e
		return
	}
	e.Key = attrs(f.get(1)).get(1)
	if end, ok := f.find(10); ok {
		e.End = attrs(end).get(1)
	}
	if flags&elemEnd != 0 {
		e.Negated = true // for now: the end of a range, see finish
	}
	s.Elems = append(s.Elems, e)
}

// finish joins the beginnings and ends of ranges, which the kernel keeps as
// elements of their own, and indexes the set.
func (s *Set) finish() {
	if s.exact != nil {
		return
	}
	if s.Interval && s.Fields == nil {
		slices.SortStableFunc(s.Elems, func(a, b Elem) int {
			if c := bytes.Compare(a.Key, b.Key); c != 0 {
				return c
			}
			return boolOrder(a.Negated, b.Negated) // an end comes before a beginning
		})
		var ranges []Elem
		open := -1
		for _, e := range s.Elems {
			if open >= 0 {
				ranges[open].End = before(e.Key)
				open = -1
			}
			if !e.Negated {
				ranges = append(ranges, e)
				open = len(ranges) - 1
			}
		}
		if open >= 0 {
			ranges[open].End = bytes.Repeat([]byte{0xff}, len(ranges[open].Key))
		}
		s.Elems = ranges
	}
	s.index()
}

func boolOrder(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return -1
	}
	return 1
}

// before is the key before one.
func before(key []byte) []byte {
	b := slices.Clone(key)
	for i := len(b) - 1; i >= 0; i-- {
		b[i]--
		if b[i] != 0xff {
			break
		}
	}
	return b
}

// Codes of verdicts (include/uapi/linux/netfilter/nf_tables.h).
var verdictCodes = map[int32]Doing{
	0:  Drop,
	1:  Accept,
	3:  Queue,
	-1: Continue,
	-2: Puzzle,
	-3: Jump,
	-4: Goto,
	-5: Return,
}

func verdictAct(f fields) *Act {
	code := int32(f.number(1))
	doing, ok := verdictCodes[code]
	if code&0xff == 3 && code > 0 {
		doing, ok = Queue, true
	}
	if !ok {
		return &Act{Doing: Puzzle, Why: fmt.Sprintf("verdict %d is not known", code)}
	}
	return &Act{Doing: doing, Chain: f.text(2)}
}

func (in *dumpReader) rule(b []byte) {
	fam, f, ok := family(b)
	t := in.tables[tableKey{fam, f.text(1)}]
	if !ok || t == nil {
		return
	}
	c := t.Chains[f.text(2)]
	if c == nil {
		return
	}
	r := &Rule{Chain: c, Handle: f.long(3), Number: len(c.Rules) + 1}
	if data := f.get(7); len(data) > 2 && data[0] == 0 && int(data[1])+2 <= len(data) {
		r.Comment = strings.TrimRight(string(data[2:2+int(data[1])]), "\x00")
	}
	e := &exprReader{in: in, table: t, rule: r}
	for _, a := range attrs(f.get(4)) {
		expr := attrs(a.data)
		e.read(expr.text(1), expr.get(2))
	}
	r.Body = e.body
	c.Table.share.rule(r)
	c.Rules = append(c.Rules, r)
}
