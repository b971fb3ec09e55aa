// Random writes a PE32+ DLL with no code: one export, ProcessPrng, forwarded to
// advapi32.SystemFunction036. Wine 8.0 has no bcryptprimitives.dll, which
// every Go program since 1.22 or so needs to start.
package main

import (
	"bytes"
	"encoding/binary"
	"os"
)

func main() {
	const (
		base, sect, hdr = 0x2ab0000000, 0x1000, 0x200
	)
	le := binary.LittleEndian
	// section: export directory (40) + functions + names + ordinals + strings
	s := make([]byte, 0x200)
	const funcs, names, ords, dll, name, fwd = 40, 44, 48, 52, 80, 100
	copy(s[dll:], "bcryptprimitives.dll\x00")
	copy(s[name:], "ProcessPrng\x00")
	copy(s[fwd:], "advapi32.SystemFunction036\x00")
	le.PutUint32(s[12:], sect+dll)
	le.PutUint32(s[16:], 1) // base
	le.PutUint32(s[20:], 1) // functions
	le.PutUint32(s[24:], 1) // names
	le.PutUint32(s[28:], sect+funcs)
	le.PutUint32(s[32:], sect+names)
	le.PutUint32(s[36:], sect+ords)
	le.PutUint32(s[funcs:], sect+fwd) // inside the directory: a forwarder
	le.PutUint32(s[names:], sect+name)
	le.PutUint16(s[ords:], 0)

	var b bytes.Buffer
	w := func(v ...any) {
		for _, x := range v {
			binary.Write(&b, le, x)
		}
	}
	dos := make([]byte, 0x40)
	copy(dos, "MZ")
	le.PutUint32(dos[0x3c:], 0x40)
	b.Write(dos)
	b.WriteString("PE\x00\x00")
	w(uint16(0x8664), uint16(1), uint32(0), uint32(0), uint32(0), uint16(240), uint16(0x2022))
	w(uint16(0x20b), uint8(14), uint8(0), uint32(0), uint32(0x200), uint32(0), uint32(0), uint32(sect))
	w(
		uint64(base),
		uint32(0x1000),
		uint32(0x200),
		uint16(6),
		uint16(0),
		uint16(0),
		uint16(0),
		uint16(6),
		uint16(0),
		uint32(0),
	)
	w(uint32(0x2000), uint32(hdr), uint32(0), uint16(2), uint16(0x100))
	w(uint64(0x100000), uint64(0x1000), uint64(0x100000), uint64(0x1000), uint32(0), uint32(16))
	w(uint32(sect), uint32(0x100)) // export directory
	for range 15 {
		w(uint64(0))
	}
	var n [8]byte
	copy(n[:], ".rdata")
	w(n, uint32(0x200), uint32(sect), uint32(0x200), uint32(hdr), uint32(0), uint32(0), uint32(0), uint32(0x40000040))
	out := make([]byte, hdr)
	copy(out, b.Bytes())
	out = append(out, s...)
	if err := os.WriteFile(os.Args[1], out, 0o644); err != nil {
		panic(err)
	}
}
