package program

import "testing"

func TestSameEntry(t *testing.T) {
	const one = "uid=gauge,ou=crew,dc=varzea,dc=example"
	for other, want := range map[string]bool{
		one: true, "UID=Gauge, OU=Crew, DC=varzea,DC=example": true,
		"uid = gauge,ou=crew , dc=varzea,dc=example": true,
		`uid=g\61uge,ou=crew,dc=varzea,dc=example`:   true, `uid="gauge",ou=crew,dc=varzea,dc=example`: true,
		"uid=gauge,dc=varzea,dc=example": false, "uid=gauge2,ou=crew,dc=varzea,dc=example": false, "": false,
		`uid=gauge\,ou=crew,dc=varzea,dc=example`: false,
	} {
		if got := SameEntry(one, other); got != want {
			t.Errorf("%q: %v", other, got)
		}
	}
	if !SameEntry("cn=a  b+sn=c,dc=x", "SN=C+cn=a b,dc=x") {
		t.Error("parts of one level in another order")
	}
}
