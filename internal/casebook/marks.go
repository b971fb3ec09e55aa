package casebook

import (
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
)

// markKeyLong is the length of the key of marks, in bytes.
const markKeyLong = 32

// making is set by runs whose facts are kept.
var making struct {
	mu  sync.Mutex
	yes bool
}

// KeepMarkKey lets the key of marks be kept from this run on, so that the marks of what is
// kept can be compared with those of later runs.
func KeepMarkKey() {
	making.mu.Lock()
	defer making.mu.Unlock()
	making.yes = true
}

// MarkKey is the key that this user's runs mark values with (redact.Mark): the one beside the
// casebook, readable by its owner alone. Where nothing is kept it is a random one of this run.
// A kept one is used if ours says nothing against its file.
func MarkKey(ours func(path string) error) []byte {
	random := make([]byte, markKeyLong)
	rand.Read(random) // it never fails: crypto/rand ends the program instead
	folder, err := Folder()
	if err != nil {
		return random
	}
	making.mu.Lock()
	yes := making.yes
	making.mu.Unlock()
	if _, err := os.Stat(folder); err != nil && (!yes || os.MkdirAll(folder, 0o700) != nil) {
		return random
	}
	path := filepath.Join(folder, "marks.key")
	if key, ok := keptKey(path, ours); ok {
		return key
	}
	// The first of several runs at once decides (O_EXCL); the others read what it wrote.
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	switch {
	case errors.Is(err, fs.ErrExist):
		if key, ok := keptKey(path, ours); ok {
			return key
		}
	case err == nil:
		_, err = f.Write(random)
		if err = errors.Join(err, f.Close()); err != nil {
			os.Remove(path) // a torn key would be another one for ever
		}
	}
	return random
}

// keptKey is the key in a file of this user that nobody else can write to.
func keptKey(path string, ours func(path string) error) ([]byte, bool) {
	if ours(path) != nil {
		return nil, false
	}
	key, err := os.ReadFile(path)
	return key, err == nil && len(key) == markKeyLong
}
