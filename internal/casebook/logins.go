package casebook

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"uakari/internal/owned"
)

// Accounts lock after a few rejected tries, wherever they came from. So the tries
// of the last minutes are remembered beside the casebook.
const (
	loginsName  = "logins.jsonl"
	loginsSpan  = 10 * time.Minute
	mostLogins  = 1 << 20 // bytes of the file; beyond, it begins again
	mostRefused = 5       // rejected tries of one account at one server in that span
)

// loginTry is one try that was put before a server. Whose it was is not kept, but for
// a mark of it.
type loginTry struct {
	At       time.Time `json:"at"`
	Of       string    `json:"of"`
	Accepted bool      `json:"accepted"`
}

// loginMark is the mark of an account at a server.
func loginMark(server, account string) string {
	sum := sha256.Sum256([]byte(server + "\x00" + account))
	return hex.EncodeToString(sum[:12])
}

// Logins is the tries that are remembered in a folder.
type Logins struct{ folder string }

// LoginsIn is the tries of a casebook's folder; "": nothing is remembered.
func LoginsIn(folder string) Logins { return Logins{folder} }

// Refused is how many tries of an account a server rejected lately, since it was
// accepted last, and whether another one is too many.
func (l Logins) Refused(server, account string, now time.Time) (count int, tooMany bool, err error) {
	if l.folder == "" {
		return 0, false, nil
	}
	f, err := os.Open(filepath.Join(l.folder, loginsName))
	if errors.Is(err, fs.ErrNotExist) {
		return 0, false, nil
	}
	if err != nil {
		return 0, false, err
	}
	defer f.Close()
	of, lines := loginMark(server, account), bufio.NewScanner(io.LimitReader(f, mostLogins))
	for lines.Scan() {
		var try loginTry
		if json.Unmarshal(lines.Bytes(), &try) != nil || try.Of != of || now.Sub(try.At) > loginsSpan {
			continue // a torn line counts for nothing
		}
		if count++; try.Accepted {
			count = 0
		}
	}
	return count, count >= mostRefused, lines.Err()
}

// Add remembers a try.
func (l Logins) Add(server, account string, accepted bool, now time.Time) error {
	if l.folder == "" {
		return nil
	}
	f, err := owned.Append(filepath.Join(l.folder, loginsName))
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err == nil && info.Size() > mostLogins {
		err = f.Truncate(0)
	}
	if err == nil {
		err = json.NewEncoder(f).Encode(loginTry{now.UTC(), loginMark(server, account), accepted})
	}
	return errors.Join(err, f.Close())
}
