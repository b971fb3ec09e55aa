//go:build windows

package windows

import (
	"unsafe"

	"golang.org/x/sys/windows"

	"uakari/internal/fact"
	"uakari/internal/look/host/common"
)

func init() { common.SystemStored = storedCredentials }

var (
	credEnumerate = windows.NewLazySystemDLL("advapi32.dll").NewProc("CredEnumerateW")
	credFree      = windows.NewLazySystemDLL("advapi32.dll").NewProc("CredFree")
)

// credential is CREDENTIALW of wincred.h. Of what it holds only names are read, and
// never the secret.
type credential struct {
	flags, kind   uint32
	target        *uint16
	comment       *uint16
	lastWritten   windows.Filetime
	blobSize      uint32
	blob          uintptr
	persist       uint32
	attributes    uint32
	attributeList uintptr
	alias         *uint16
	user          *uint16
}

// storedCredentials is what the store of this user's credentials would send to a host
// by itself.
func storedCredentials(host string) (list []fact.StoredSecret) {
	if credEnumerate.Find() != nil {
		return nil
	}
	var count uint32
	var found uintptr
	ok, _, _ := credEnumerate.Call(0, 0, uintptr(unsafe.Pointer(&count)), uintptr(unsafe.Pointer(&found)))
	if ok == 0 || found == 0 {
		return nil // none, or none that may be read
	}
	defer credFree.Call(found)
	const most = 1000
	for _, c := range unsafe.Slice(*(***credential)(unsafe.Pointer(&found)), min(count, most)) {
		target := windows.UTF16PtrToString(c.target)
		if !common.CredentialFor(target, host) {
			continue
		}
		user := ""
		if c.user != nil {
			user = windows.UTF16PtrToString(c.user)
		}
		list = append(list, fact.StoredSecret{Place: "the store of credentials, " + target, Account: user})
	}
	return list
}
