package common

import "testing"

// TestSystemKept is what Windows writes about proxies and credentials.
func TestSystemKept(t *testing.T) {
	for _, c := range []struct{ list, scheme, want string }{
		{"heron:3128", "https", "heron:3128"}, {"http=heron:3128;https=heron:3129", "https", "heron:3129"},
		{"http=heron:3128", "https", ""}, {"", "http", ""}, {"http=a:1;b:2", "ftp", "b:2"},
	} {
		if got := ProxyFor(c.list, c.scheme); got != c.want {
			t.Errorf("%q for %s: %q, want %q", c.list, c.scheme, got, c.want)
		}
	}
	if got := exceptions("*.varzea.example;10.20.*;<local>"); got != "*.varzea.example,10.20.*,<local>" {
		t.Error(got)
	}
	for target, want := range map[string]bool{
		"TERMSRV/heron": true, "Domain:target=heron": true, "LegacyGeneric:target=git:https://heron": true,
		"https://HERON:8443/x": true,
		"Domain:target=heron2": false, "TERMSRV/tidebook": false, "": false,
		"LegacyGeneric:target=git:https://tidebook": false,
	} {
		if got := CredentialFor(target, "heron"); got != want {
			t.Errorf("%s: %v", target, got)
		}
	}
	if CredentialFor("TERMSRV/", "") {
		t.Error("a credential is for nobody")
	}
}

// TestCommentNamesPort finds a default that a settings file tells in a comment.
func TestCommentNamesPort(t *testing.T) {
	for text, want := range map[string]bool{
		"# Port:3142\n": true, "#port = 3142": true, "; listen-port 3142\n": true, "x\n #  TCP_PORT: \"3142\"\n": true,
		"Port:3142":               false,
		"#   default port = 3142": true, "#   http://localhost:3142/tide.conf": true, "# http://almanac:3142/": false,
		"# http://localhost:31420/":                         false,
		"# Port:31420\n":                                    false,
		"# TIDEPORT <port> default is 3142 as registered\n": true,
		"# see port 3142 of the manual\n":                   false, "# 3142\n": false,
	} {
		if got := CommentNamesPort(text, 3142); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
}

// TestSettingsOf is which files beside a program are its settings.
func TestSettingsOf(t *testing.T) {
	for file, want := range map[string]bool{
		"tidebook.ini": true, "TideBook.exe.config": true, "tidebook.json": true, "appsettings.json": true,
		"appsettings.Production.json": true, "tidebook.uakari.json": false, "package.json": false,
		"tidebooking.ini": false, "heron.ini": false, "tidebook": false,
	} {
		if got := SettingsOf(file, "Tidebook.exe"); got != want {
			t.Errorf("%s: %v", file, got)
		}
	}
}

// TestSettingNamesPort finds lines that give a port to something that listens.
func TestSettingNamesPort(t *testing.T) {
	for text, want := range map[string]bool{
		"listen 8088\n": true, "0.0.0.0 8088 127.0.0.1 80\n": true, ":: 8088 ::1 80\n": true, "# port 8088\n": false,
		"keep 8088 lines\n": false, "accepter: tcp,0.0.0.0,8088": true,
		"10.20.0.1 80880\n": false, "timeout 8088\n": false, "if failed port 8088 protocol http then alert\n": false,
		"ProxyPass / http://127.0.0.1:8088/\n": false, "connect = 127.0.0.1:8088\n": false,
		"attributetype ( tide4:8088\n": false, "id-ebb id-mr:8088\n": false, "http = :8088\n": true, "*:8088\n": true,
		"url http://tidebook.varzea.example:8088/\n": true, "web [::]:8088\n": true,
		"<!-- <listen>\n<port>8088</port>\n</listen> -->\n": false, "<!-- a -->\n<port>8088</port>\n<!-- b -->": true,
	} {
		if got := SettingNamesPort(text, 8088); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
	for text, want := range map[string]bool{
		"tide stream tcp nowait root /usr/sbin/tided tided\n": true, "#tide stream tcp nowait root x\n": false,
		"service tide\n{\n}\n": true, "service ebb\n": false, "tide is out\n": false,
	} {
		if got := SettingNamesService(text, []string{"tide"}); got != want {
			t.Errorf("%q: service %v", text, got)
		}
	}
}

// TestSaidListening takes what a program says of its own port, and not of another's.
func TestSaidListening(t *testing.T) {
	for line, want := range map[string]bool{
		"Tide table listening on port 3142": true, "Serving at http://0.0.0.0:3142/": true,
		"server started on 127.0.0.1:3142": true,
		"Running on http://[::]:3142":      true, "listening on port 31420": false,
		"connect to 10.20.0.14:3142 failed":         false,
		"Server tides/one is DOWN, 10.20.0.14:3142": false, "started checks of target 10.20.0.14:3142": false,
		"port 3142": false,
	} {
		if got := SaidListening(line, 3142); got != want {
			t.Errorf("%q: %v", line, got)
		}
	}
}
