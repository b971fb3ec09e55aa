package settingsfile

import (
	"encoding/binary"
	"strings"
	"testing"
	"unicode/utf16"
)

const exported = "Windows Registry Editor Version 5.00\r\n\r\n; " +
	"tides\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tidebook]\r\n" +
	"@=\"own\"\r\n\"path\"=\"C:\\\\tides\\\\book.exe\"\r\n\"said\"=\"a \\\"b\\\"\"\r\n\"port\"=dword:00001f90\r\n" +
	"\"names\"=hex(7):61,00,00,00,62,\\\r\n  " +
	"00,00,00,00,00\r\n\"big\"=hex(b):01,00,00,00,00,00,00,00\r\n\"raw\"=hex:0a,0b\r\n\"gone\"=-\r\n[-HKEY_LOCAL_MACHINE\\SOFTWARE\\Old]\r\n\"x\"=\"y\"\r\n"

func TestRegistry(t *testing.T) {
	wide := []byte{0xff, 0xfe}
	for _, unit := range utf16.Encode([]rune(exported)) {
		wide = binary.LittleEndian.AppendUint16(wide, unit)
	}
	for _, text := range []string{exported, string(wide), "\ufeff" + exported} {
		values, err := Registry([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, v := range values {
			got = append(got, v.Name+"="+v.Text)
		}
		if want := `=own|path=C:\tides\book.exe|said=a "b"|port=8080|names=a` + "\n" +
			`b|big=1|raw=0a0b`; strings.Join(
			got,
			"|",
		) != want {
			t.Errorf("got %q, want %q", strings.Join(got, "|"), want)
		}
		if values[1].Line != 6 || values[1].Path != `HKEY_LOCAL_MACHINE\SOFTWARE\Tidebook` {
			t.Errorf("its place: %+v", values[1])
		}
	}
	for _, text := range []string{"", "[x]\n", "REGEDIT4\n[x]\n\"a\n", "REGEDIT4\n[x]\n\"a\"=dword:xyz\n",
		"REGEDIT4\n[x]\n\"a\"=hex:0\n", "REGEDIT4\n[x]\na=b\n"} {
		if _, err := Registry([]byte(text)); err == nil {
			t.Errorf("%q is read", text)
		}
	}
	found, err := Read(exported, "registry")
	if err != nil || len(found) != 7 || found[3].Key != `HKEY_LOCAL_MACHINE\SOFTWARE\Tidebook\port` {
		t.Errorf("%+v, %v", found, err)
	}
}

func FuzzRegistry(f *testing.F) {
	f.Add(exported)
	f.Add("REGEDIT4\n[a]\n\"b\"=hex(2):\\\n")
	f.Fuzz(func(t *testing.T, text string) {
		values, err := Registry([]byte(text))
		if err == nil && !IsRegistry([]byte(text)) {
			t.Errorf("%d values of what is no export", len(values))
		}
	})
}
