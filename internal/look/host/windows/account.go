//go:build windows

package windows

import (
	"context"
	"os"
	"slices"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/host/logon"
)

var (
	netUserGetLocalGroups = windows.NewLazySystemDLL("netapi32.dll").NewProc("NetUserGetLocalGroups")
	advapi32              = windows.NewLazySystemDLL("advapi32.dll")
	lsaOpenPolicy         = advapi32.NewProc("LsaOpenPolicy")
	lsaRights             = advapi32.NewProc("LsaEnumerateAccountRights")
	lsaFree               = advapi32.NewProc("LsaFreeMemory")
	lsaClose              = advapi32.NewProc("LsaClose")
)

// userInfo1 is USER_INFO_1 of lmaccess.h, with which the longer ones begin.
type userInfo1 struct {
	name, password *uint16
	age, privilege uint32
	home, comment  *uint16
	flags          uint32
	script         *uint16
}

// userInfo3 is USER_INFO_3, as far as its last field.
type userInfo3 struct {
	userInfo1
	authFlags                             uint32
	fullName, words, parameters, machines *uint16
	lastLogon, lastLogoff, ends           uint32
	storage, perWeek                      uint32
	hours                                 *byte
	wrong, logons                         uint32
	server                                *uint16
	country, codePage, id, primaryGroup   uint32
	profile, drive                        *uint16
	expired                               uint32
}

// Account leaves the state of a local account: whether it is there, disabled, locked or
// ended, its groups, and its rights to log on.
func Account(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	const source = "local accounts"
	host, _ := os.Hostname() // without one, only "." is this host's
	name, ours := logon.Local(order.Target.Account, host)
	a := fact.Account{Name: name, Others: []string{"the domain"}}
	a.RefusesNTLM = refusesNTLM()
	const noSuchUser = windows.Errno(2221)
	var state logon.State
	err := error(noSuchUser) // here
	if ours {
		state, err = accountState(name)
	}
	switch err {
	case nil:
		if state.Rights == nil {
			a.Unread = append(a.Unread, "its rights to log on: they take an administrator's prompt")
		}
		state.Fill(&a)
	case noSuchUser:
	default:
		emit(env.Failed(order, source, "could not read the state of the account", err, "an administrator's prompt"))
		return
	}
	saw := "no local account"
	if a.Known {
		saw = "a local account"
	}
	f := env.Seen(order, source, saw)
	f.Account = &a
	emit(f)
}

// refusesNTLM is the host's own setting for that; none stands for taking it.
func refusesNTLM() bool {
	key, err := registry.OpenKey(registry.LOCAL_MACHINE, `SYSTEM\CurrentControlSet\Control\Lsa\MSV1_0`,
		registry.QUERY_VALUE)
	if err != nil {
		return false
	}
	defer key.Close()
	setting, _ := valueOf(key, "RestrictReceivingNTLMTraffic")
	return logon.RefusesNTLM(setting)
}

func accountState(name string) (s logon.State, err error) {
	wide, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return s, err
	}
	var buffer *byte
	if err = windows.NetUserGetInfo(nil, wide, 3, &buffer); err == nil {
		info := (*userInfo3)(unsafe.Pointer(buffer))
		s = logon.State{Flags: info.flags, Ends: info.ends, Expired: info.expired, Whole: true}
	} else if err = windows.NetUserGetInfo(nil, wide, 1, &buffer); err == nil { // which needs fewer rights
		s = logon.State{Flags: (*userInfo1)(unsafe.Pointer(buffer)).flags, Ends: logon.Never}
	}
	if err != nil {
		return s, err
	}
	windows.NetApiBufferFree(buffer)
	s.Groups = localGroups(wide)
	s.Rights = rightsOf(append(s.Groups, name))
	return s, nil
}

// localGroups is the local groups that an account is in, by itself or through others.
func localGroups(name *uint16) []string {
	if netUserGetLocalGroups.Find() != nil {
		return nil
	}
	const indirect, all = 1, 0xffffffff
	var buffer *byte
	var read, total uint32
	code, _, _ := netUserGetLocalGroups.Call(
		0, uintptr(unsafe.Pointer(name)), 0, indirect, uintptr(unsafe.Pointer(&buffer)), all,
		uintptr(unsafe.Pointer(&read)), uintptr(unsafe.Pointer(&total)),
	)
	if code != 0 || buffer == nil {
		return nil
	}
	defer windows.NetApiBufferFree(buffer)
	var groups []string
	for _, each := range unsafe.Slice((**uint16)(unsafe.Pointer(buffer)), read) {
		groups = append(groups, windows.UTF16PtrToString(each))
	}
	return groups
}

// everybody is the groups that every account is in that logs on over the network
// ([MS-DTYP] section 2.4.2.4): everyone, the authenticated, and those of the network.
var everybody = []string{"S-1-1-0", "S-1-5-11", "S-1-5-2"}

// rightsOf is the rights that names have between them; nil if they may not be read.
func rightsOf(names []string) []string {
	for _, proc := range []*windows.LazyProc{lsaOpenPolicy, lsaRights, lsaFree, lsaClose} {
		if proc.Find() != nil {
			return nil
		}
	}
	const lookUp, view = 0x800, 1
	var attributes [6]uintptr // LSA_OBJECT_ATTRIBUTES, all zero
	var policy uintptr
	status, _, _ := lsaOpenPolicy.Call(0, uintptr(unsafe.Pointer(&attributes[0])), lookUp|view,
		uintptr(unsafe.Pointer(&policy)))
	if status != 0 {
		return nil
	}
	defer lsaClose.Call(policy)
	var sids []*windows.SID
	for _, each := range names {
		if sid, _, _, err := windows.LookupSID("", each); err == nil {
			sids = append(sids, sid)
		}
	}
	for _, each := range everybody {
		if sid, err := windows.StringToSid(each); err == nil {
			sids = append(sids, sid)
		}
	}
	rights := []string{}
	for _, sid := range sids {
		list, ok := accountRights(policy, sid)
		if !ok {
			return nil
		}
		for _, each := range list {
			if !slices.Contains(rights, each) {
				rights = append(rights, each)
			}
		}
	}
	if len(rights) == 0 {
		return nil // no system is without any
	}
	return rights
}

// accountRights is the rights that one account or group was given itself.
func accountRights(policy uintptr, sid *windows.SID) (list []string, ok bool) {
	const none = 0xc0000034 // STATUS_OBJECT_NAME_NOT_FOUND
	var found *windows.NTUnicodeString
	var count uint32
	status, _, _ := lsaRights.Call(policy, uintptr(unsafe.Pointer(sid)), uintptr(unsafe.Pointer(&found)),
		uintptr(unsafe.Pointer(&count)))
	switch uint32(status) {
	case 0:
	case none:
		return nil, true
	default:
		return nil, false
	}
	defer lsaFree.Call(uintptr(unsafe.Pointer(found)))
	for _, each := range unsafe.Slice(found, count) {
		list = append(list, each.String())
	}
	return list, true
}
