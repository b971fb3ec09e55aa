//go:build linux

package linux

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netlink/nl"
	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
)

// Messages of nftables (include/uapi/linux/netfilter/nf_tables.h).
const (
	subsystem   = unix.NFNL_SUBSYS_NFTABLES << 8
	getTable    = subsystem | unix.NFT_MSG_GETTABLE
	getChain    = subsystem | unix.NFT_MSG_GETCHAIN
	getRule     = subsystem | unix.NFT_MSG_GETRULE
	getSet      = subsystem | unix.NFT_MSG_GETSET
	getElements = subsystem | unix.NFT_MSG_GETSETELEM
	getGen      = subsystem | unix.NFT_MSG_GETGEN
)

// Tables leaves the packet filters of this network namespace: nftables as the
// kernel tells them, the older tables through the system's own save command,
// the kernel's IP sets, and the links by index.
func Tables(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	const what, needs = "could not read the packet filters", "root"
	source := "packet filters"
	dump, err := nftables()
	if err != nil {
		if errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.EACCES) {
			emit(env.Failed(order, source, what, err, needs))
		} else {
			emit(env.Failed(order, source, what, err, ""))
		}
		return
	}
	t := fact.Tables{Nftables: dump, Count: len(dump.Rules)}
	for _, six := range []bool{false, true} {
		saved, why := older(ctx, six)
		if why != "" {
			t.Unread = append(t.Unread, why)
		}
		if saved != "" {
			t.Saved = append(t.Saved, fact.SavedTables{Six: six, Text: saved})
			t.Count += strings.Count(saved, "\n-A ")
		}
	}
	t.IPSets = ipSets()
	t.Links, err = linkIndexes()
	if err != nil {
		t.Unread = append(t.Unread, "the links: "+err.Error())
	}
	saw := fmt.Sprintf("%d rules in %d tables", t.Count, len(dump.Tables))
	if len(t.Saved) > 0 {
		saw += ", and the older iptables"
	}
	f := env.Seen(order, source, saw)
	f.Tables = &t
	emit(f)
}

// nftables dumps the kernel's tables. It starts anew if they change meanwhile.
func nftables() (*fact.Nftables, error) {
	const most = 4
	var d *fact.Nftables
	for range most {
		before, err := ask(getGen, 0)
		if err != nil {
			return nil, err
		}
		if d, err = dumpOnce(); err != nil && !errors.Is(err, syscall.EINTR) && !errors.Is(err, syscall.ENOENT) &&
			!errors.Is(err, netlink.ErrDumpInterrupted) {
			return nil, err
		}
		after, err2 := ask(getGen, 0)
		if err == nil && err2 == nil && len(before) > 0 && len(after) > 0 &&
			bytes.Equal(before[0][:min(12, len(before[0]))], after[0][:min(12, len(after[0]))]) {
			return d, nil
		}
	}
	return nil, errors.New("the tables changed again and again while they were read")
}

func dumpOnce() (*fact.Nftables, error) {
	d := &fact.Nftables{}
	for _, each := range []struct {
		message int
		to      *[][]byte
	}{{getTable, &d.Tables}, {getChain, &d.Chains}, {getSet, &d.Sets}, {getRule, &d.Rules}} {
		list, err := ask(each.message, unix.NLM_F_DUMP)
		if err != nil {
			return nil, err
		}
		*each.to = list
	}
	for _, set := range d.Sets {
		table, name := attribute(set, unix.NFTA_SET_TABLE), attribute(set, unix.NFTA_SET_NAME)
		list, err := ask(getElements, unix.NLM_F_DUMP, set[0],
			nl.NewRtAttr(unix.NFTA_SET_ELEM_LIST_TABLE, table), nl.NewRtAttr(unix.NFTA_SET_ELEM_LIST_SET, name))
		if err != nil {
			return nil, err
		}
		d.Elements = append(d.Elements, list...)
	}
	return d, nil
}

// ask sends one question to nftables. The first of more is the family.
func ask(message, flags int, more ...any) ([][]byte, error) {
	req := nl.NewNetlinkRequest(message, flags)
	family := uint8(unix.AF_UNSPEC)
	for _, each := range more {
		if f, ok := each.(byte); ok {
			family = f
		}
	}
	req.AddData(&nl.Nfgenmsg{NfgenFamily: family, Version: nl.NFNETLINK_V0})
	for _, each := range more {
		if a, ok := each.(*nl.RtAttr); ok {
			req.AddData(a)
		}
	}
	return req.Execute(unix.NETLINK_NETFILTER, 0)
}

// attribute is one attribute of a message.
func attribute(message []byte, kind uint16) []byte {
	if len(message) < 4 {
		return nil
	}
	list, err := nl.ParseRouteAttr(message[4:])
	if err != nil {
		return nil
	}
	for _, a := range list {
		if a.Attr.Type&^0xc000 == kind {
			return a.Value
		}
	}
	return nil
}

// older is the tables of the older iptables, if any are loaded.
func older(ctx context.Context, six bool) (text, why string) {
	names, command, other := "/proc/net/ip_tables_names", "iptables-legacy-save", "iptables-save"
	if six {
		names, command, other = "/proc/net/ip6_tables_names", "ip6tables-legacy-save", "ip6tables-save"
	}
	loaded, err := file.Head(names, common.MostSettings)
	if errors.Is(err, os.ErrNotExist) || err == nil && len(bytes.TrimSpace(loaded)) == 0 {
		return "", ""
	}
	if err != nil {
		return "", "the older tables of iptables: " + err.Error()
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	for _, name := range []string{command, "/usr/sbin/" + command, "/sbin/" + command, other, "/usr/sbin/" + other,
		"/sbin/" + other} {
		cmd := exec.CommandContext(ctx, name)
		cmd.WaitDelay = time.Second
		out, err := cmd.Output()
		if err != nil || bytes.Contains(out[:min(len(out), 200)], []byte("nf_tables")) ||
			bytes.Contains(out[:min(len(out), 200)], []byte("nft")) {
			continue
		}
		return string(out), ""
	}
	return "", fmt.Sprintf(
		"tables of the older iptables are loaded (%s), and %s is not here",
		strings.Join(strings.Fields(string(loaded)), ", "),
		command,
	)
}

// mostMembers bounds how many members of one IP set are kept.
const mostMembers = 1 << 17

// Attributes of IP sets (include/uapi/linux/netfilter/ipset/ip_set.h).
const (
	setName, setType, setFamily, setMembers    = 2, 3, 5, 8
	memberIP, memberTo, memberCIDR, memberPort = 1, 2, 3, 4
	memberPortTo, memberProto, memberFlags     = 5, 7, 8
	memberIP2, memberCIDR2                     = 20, 21
	setProtocol, flagNoMatch                   = 6, 4
)

// ipSets is the kernel's IP sets; none if there is no support for them, which
// is usual: a rule that needs one says that it was not read.
func ipSets() []fact.IPSet {
	req := nl.NewNetlinkRequest(unix.NFNL_SUBSYS_IPSET<<8|nl.IPSET_CMD_LIST, unix.NLM_F_DUMP)
	req.AddData(&nl.Nfgenmsg{NfgenFamily: unix.AF_INET, Version: nl.NFNETLINK_V0})
	req.AddData(nl.NewRtAttr(nl.IPSET_ATTR_PROTOCOL, nl.Uint8Attr(setProtocol)))
	messages, err := req.Execute(unix.NETLINK_NETFILTER, 0)
	if err != nil {
		return nil
	}
	var sets []fact.IPSet
	for _, m := range messages {
		a := attributes(m[min(4, len(m)):])
		name := strings.TrimRight(string(a[setName]), "\x00")
		if len(sets) == 0 || sets[len(sets)-1].Name != name {
			index, err := setIndex(name)
			if err != nil {
				continue
			}
			sets = append(
				sets,
				fact.IPSet{Name: name, Index: index, Type: strings.TrimRight(string(a[setType]), "\x00"),
					Six: len(a[setFamily]) > 0 && a[setFamily][0] == unix.AF_INET6},
			)
		}
		s := &sets[len(sets)-1] // a large set comes in several messages
		list, err := nl.ParseRouteAttr(a[setMembers])
		if err != nil || len(s.Members)+len(list) > mostMembers {
			s.Type = "too large"
			continue
		}
		for _, each := range list {
			m, ok := member(attributes(each.Value))
			if !ok {
				s.Type += " with more"
			}
			s.Members = append(s.Members, m)
		}
	}
	return sets
}

// attributes is netlink attributes by their kind.
func attributes(b []byte) map[uint16][]byte {
	list, err := nl.ParseRouteAttr(b)
	if err != nil {
		return nil
	}
	m := map[uint16][]byte{}
	for _, a := range list {
		m[a.Attr.Type&^0xc000] = a.Value
	}
	return m
}

// member reads one member; it reports false for what is not understood.
func member(a map[uint16][]byte) (fact.SetMember, bool) {
	m := fact.SetMember{}
	address := func(ip, bits uint16) string {
		for _, v := range attributes(a[ip]) {
			addr, ok := netip.AddrFromSlice(v)
			if !ok {
				return ""
			}
			if len(a[bits]) == 1 && int(a[bits][0]) != addr.BitLen() {
				return fmt.Sprintf("%s/%d", addr, a[bits][0])
			}
			return addr.String()
		}
		return ""
	}
	m.Net, m.Net2 = address(memberIP, memberCIDR), address(memberIP2, memberCIDR2)
	if p := a[memberPort]; len(p) == 2 {
		m.Port = strconv.Itoa(int(binary.BigEndian.Uint16(p)))
	}
	if p := a[memberPortTo]; len(p) == 2 {
		m.Port += "-" + strconv.Itoa(int(binary.BigEndian.Uint16(p)))
	}
	if p := a[memberProto]; len(p) == 1 {
		m.Proto = p[0]
	}
	if f := a[memberFlags]; len(f) == 4 {
		m.Not = binary.BigEndian.Uint32(f)&flagNoMatch != 0
	}
	_, ranged := a[memberTo]
	return m, m.Net != "" && !ranged
}

// setIndex is the index by which rules name an IP set (SO_IP_SET of
// include/uapi/linux/netfilter/ipset/ip_set.h).
func setIndex(name string) (uint16, error) {
	const soIPSet, opByName, version = 83, 6, 7
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.IPPROTO_RAW)
	if err != nil {
		return 0, err
	}
	defer unix.Close(fd)
	for _, v := range []uint32{version, version - 1} {
		var request [40]byte
		binary.NativeEndian.PutUint32(request[:], opByName)
		binary.NativeEndian.PutUint32(request[4:], v)
		copy(request[8:39], name)
		size := uint32(len(request))
		_, _, errno := unix.Syscall6(
			unix.SYS_GETSOCKOPT,
			uintptr(fd),
			unix.SOL_IP,
			soIPSet,
			uintptr(unsafe.Pointer(&request)),
			uintptr(unsafe.Pointer(&size)),
			0,
		)
		if errno != 0 {
			err = errno
			continue
		}
		if index := binary.NativeEndian.Uint16(request[8:]); index != 0xffff {
			return index, nil
		}
		return 0, errors.New("no such set")
	}
	return 0, err
}

// encapsulations are the types of hardware that rules ask for
// (include/uapi/linux/if_arp.h).
var encapsulations = map[string]uint16{
	"ether":    1,
	"loopback": 772,
	"ppp":      512,
	"none":     65534,
	"sit":      776,
	"ipip":     768,
	"gre":      778,
	"tunnel6":  769,
}

func linkIndexes() ([]fact.LinkIndex, error) {
	links, err := netlink.LinkList()
	if err != nil {
		return nil, err
	}
	var list []fact.LinkIndex
	for _, l := range links {
		a := l.Attrs()
		each := fact.LinkIndex{Index: uint32(a.Index), Name: a.Name, Group: a.Group, Type: encapsulations[a.EncapType]}
		if kind := l.Type(); kind != "device" {
			each.Kind = kind
		}
		list = append(list, each)
	}
	return list, nil
}
