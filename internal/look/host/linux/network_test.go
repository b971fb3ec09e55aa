//go:build linux

package linux

import "testing"

// TestOwnUnit tells units of this host from those of containers on it.
func TestOwnUnit(t *testing.T) {
	for text, want := range map[string]bool{
		"0::/system.slice/nginx.service\n":                                                   true,
		"0::/system.slice/nginx.service/worker\n":                                            true,
		"1:name=systemd:/x\n0::/system.slice/nginx.service\n":                                true,
		"0::/system.slice/docker-4af0.scope\n":                                               false,
		"0::/machine.slice/systemd-nspawn@tide.service/payload/system.slice/nginx.service\n": false,
		"0::/system.slice/tide.service/payload/system.slice/nginx.service\n":                 false,
		"0::/../../system.slice/nginx.service\n":                                             false,
		"0::/user.slice/user-1000.slice/user@1000.service/app.slice/nginx.service\n":         false,
		"": false, "0::/\n": false,
	} {
		if got := ownUnit(text); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
}
