//go:build linux

package linux

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look/host/common"
)

// journalWait bounds one question to the journal: it may be large.
const journalWait = 5 * time.Second

// mostJournal bounds what is read of one answer, in bytes.
const mostJournal = 4 << 20

// journal asks the system's own reader for log lines, newest last.
func journal(ctx context.Context, args ...string) ([]fact.LogLine, error) {
	path, err := exec.LookPath("journalctl")
	if err != nil {
		return nil, errors.New("this host has no journal")
	}
	ctx, cancel := context.WithTimeout(ctx, journalWait)
	defer cancel()
	cmd := exec.CommandContext(ctx, path, append([]string{"-o", "json", "--no-pager", "-q"}, args...)...)
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	var lines []fact.LogLine
	scan := bufio.NewScanner(io.LimitReader(out, mostJournal))
	scan.Buffer(nil, 1<<20)
	for scan.Scan() {
		if line, ok := journalLine(ctx, scan.Bytes()); ok {
			lines = append(lines, line)
		}
	}
	io.Copy(io.Discard, out) // so that the reader can end
	if err := cmd.Wait(); err != nil && len(lines) == 0 {
		return nil, fmt.Errorf("journalctl: %w: %s", err, foreign.Clean(stderr.String()))
	}
	if strings.Contains(stderr.String(), "not seeing messages") && len(lines) == 0 {
		return nil, errors.New("the journal shows other users' messages to root only")
	}
	return lines, nil
}

// journalLine reads one entry of the journal's JSON (systemd.journal-fields(7)).
// A message that is no text comes as a list of bytes.
func journalLine(ctx context.Context, raw []byte) (fact.LogLine, bool) {
	var entry struct {
		Time    string          `json:"__REALTIME_TIMESTAMP"`
		Message json.RawMessage `json:"MESSAGE"`
		Unit    string          `json:"_SYSTEMD_UNIT"`
		About   string          `json:"UNIT"`
	}
	if json.Unmarshal(raw, &entry) != nil {
		return fact.LogLine{}, false
	}
	var text string
	if json.Unmarshal(entry.Message, &text) != nil {
		var list []int
		if json.Unmarshal(entry.Message, &list) != nil {
			return fact.LogLine{}, false
		}
		raw := make([]byte, len(list))
		for i, b := range list {
			raw[i] = byte(b)
		}
		text = string(raw)
	}
	line := fact.LogLine{Unit: entry.Unit, Text: foreign.Clean(common.LogLine(ctx, text))}
	if entry.About != "" {
		line.Unit = entry.About
	}
	if micros, err := strconv.ParseInt(entry.Time, 10, 64); err == nil {
		line.At = time.UnixMicro(micros).UTC()
	}
	return line, true
}
