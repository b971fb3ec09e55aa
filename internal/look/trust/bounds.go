package trust

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

// Bounds on what a store may ask for before anything in it is known to be good:
// the libraries that read it do what it says.
const (
	mostEntries = 10_000
	mostRounds  = 5_000_000 // of deriving a key; common stores ask for at most 600,000
	storeWait   = 10 * time.Second
)

var (
	errStore  = errors.New("a broken Java key store: its lengths do not fit its size")
	errBroken = errors.New("a broken store")
)

// checkKeyStore walks a Java key store (sun.security.provider.JavaKeyStore,
// versions 1 and 2): every length in it must fit into what is left.
func checkKeyStore(text []byte) error {
	s := cryptobyte.String(text)
	var magic, version, count uint32
	if !s.ReadUint32(&magic) || !s.ReadUint32(&version) || !s.ReadUint32(&count) || version < 1 || version > 2 {
		return errStore
	}
	if count > mostEntries {
		return fmt.Errorf("a store of %d entries; at most %d are read", count, mostEntries)
	}
	text16 := func() bool { var b cryptobyte.String; return s.ReadUint16LengthPrefixed(&b) }
	bytes32 := func() bool {
		var n uint32
		return s.ReadUint32(&n) && uint64(n) <= uint64(len(s)) && s.Skip(int(n))
	}
	certificate := func() bool { return (version == 1 || text16()) && bytes32() }
	for range count {
		var tag uint32
		if !s.ReadUint32(&tag) || !text16() || !s.Skip(8) { // the alias, and when it was made
			return errStore
		}
		switch tag {
		case 1: // a key, with its chain
			var chain uint32
			if !bytes32() || !s.ReadUint32(&chain) || chain > mostEntries {
				return errStore
			}
			for range chain {
				if !certificate() {
					return errStore
				}
			}
		case 2:
			if !certificate() {
				return errStore
			}
		default:
			return errStore
		}
	}
	return nil
}

// checkPKCS12 finds how often a store wants keys to be derived: a number that
// follows a salt, in parameters of encryption (RFC 8018 appendix A.2) and in
// those of the checksum (RFC 7292 appendix C), at any depth that is not itself
// encrypted.
func checkPKCS12(text []byte) error { return checkRounds(cryptobyte.String(text), 0) }

func checkRounds(s cryptobyte.String, depth int) error {
	const deepest = 20
	salted := false
	for !s.Empty() && depth < deepest {
		var element cryptobyte.String
		var tag asn1.Tag
		if !s.ReadAnyASN1(&element, &tag) {
			return nil // not of this form; whoever reads it says so
		}
		if tag == asn1.INTEGER && salted {
			if rounds, ok := number(element); !ok || rounds > mostRounds {
				return fmt.Errorf("a store that asks for more than %d rounds to derive a key", mostRounds)
			}
		}
		salted = tag == asn1.OCTET_STRING
		if tag&0x20 != 0 || tag == asn1.OCTET_STRING {
			if err := checkRounds(element, depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}

// number reads an integer of at most four bytes.
func number(b []byte) (uint32, bool) {
	for len(b) > 1 && b[0] == 0 {
		b = b[1:]
	}
	if len(b) == 0 || len(b) > 4 {
		return 0, false
	}
	return binary.BigEndian.Uint32(append(make([]byte, 4-len(b)), b...)), true
}

// timely does work that a store asks for, and gives up on it in the end: what
// is encrypted may ask for more.
func timely[T any](do func() (T, error)) (T, error) {
	type result struct {
		value T
		err   error
	}
	done := make(chan result, 1)
	go func() {
		defer func() {
			if recover() != nil { // of a library, over a broken store
				done <- result{err: errBroken}
			}
		}()
		value, err := do()
		done <- result{value, err}
	}()
	select {
	case r := <-done:
		return r.value, r.err
	case <-time.After(storeWait):
		var none T
		return none, fmt.Errorf("a store that takes longer than %s to open", storeWait)
	}
}
