package path

import (
	"os"
	"path/filepath"
	"reflect"
	"testing"
)

// TestTimeServers is settings of the programs that keep clocks right.
func TestTimeServers(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"a.conf": "# server ghost.example\npool clock.varzea.example iburst\nserver 10.20.0.2 minpoll 4\nmakestep 1 " +
			"3\n",
		"b.conf": "[Time]\nNTP=clock.varzea.example 10.20.0.3\n#NTP=ghost.example\nFallbackNTP=ghost.example\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	want := []string{"clock.varzea.example", "10.20.0.2", "10.20.0.3"}
	if got := timeServers([]string{filepath.Join(dir, "*.conf"), filepath.Join(dir, "none")}); !reflect.DeepEqual(
		got,
		want,
	) {
		t.Errorf("got %q, want %q", got, want)
	}
}
