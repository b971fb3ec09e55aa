//go:build linux

package linux

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.etcd.io/bbolt"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look/host/common"
)

// An engine that runs nobody, or that takes no questions, leaves what it knows of its
// containers on the disk. Nothing is written, and no lock is held for longer than the file is
// read.

// enginesOnDisk is where engines keep their containers, and how that is read.
var enginesOnDisk = []struct {
	name, path string // below the root, or below a user's home
	read       func(ctx context.Context, path string) ([]fact.Container, error)
}{
	{"podman", "/var/lib/containers/storage/libpod/bolt_state.db", podmanBolt},
	{"podman", "/var/lib/containers/storage/db.sql", podmanSQLite},
	{"podman", "~/.local/share/containers/storage/libpod/bolt_state.db", podmanBolt},
	{"podman", "~/.local/share/containers/storage/db.sql", podmanSQLite},
	{"docker", "/var/lib/docker/containers", dockerFolder},
}

// diskTime bounds the wait for a file that its engine has locked.
const diskTime = 500 * time.Millisecond

// readFromDisk adds the containers of engines that were not asked.
func readFromDisk(ctx context.Context, all *fact.Containers) {
	for _, at := range enginesOnDisk {
		if slices.ContainsFunc(all.Engines, func(e fact.Engine) bool { return e.Name == at.name && e.Unread == "" }) {
			continue
		}
		path := at.path
		if rest, home := strings.CutPrefix(path, "~"); home {
			own, err := os.UserHomeDir()
			if err != nil || os.Geteuid() == 0 {
				continue // root's are those of the host
			}
			path = own + rest
		}
		if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) || foreignSocket(path) != "" {
			continue
		}
		e := fact.Engine{Name: at.name, Socket: path, Disk: true}
		list, err := at.read(ctx, path)
		switch {
		case errors.Is(err, fs.ErrPermission):
			e.Unread = "only root may read it"
		case err != nil:
			e.Unread = err.Error()
		}
		all.List = append(all.List, list[:min(len(list), mostContainers)]...)
		all.Engines = append(all.Engines, e)
	}
}

// podmanConfig is what Podman keeps of how a container is made.
type podmanConfig struct {
	ID        string `json:"id"`
	Name      string `json:"name"`
	Pod       string `json:"pod"`
	ImageName string `json:"rootfsImageName"`
	ImageID   string `json:"rootfsImageID"`
	Shares    string `json:"netNsCtr"`
	OwnNet    bool   `json:"createNetNS"`
	LogPath   string `json:"logPath"`
	Policy    string `json:"restart_policy"`
	Ports     []struct {
		Addr  string `json:"host_ip"`
		To    uint16 `json:"container_port"`
		Port  uint16 `json:"host_port"`
		Range uint16 `json:"range"`
		Proto string `json:"protocol"`
	} `json:"newPortMappings"`
	Spec struct {
		Process struct {
			Env []string `json:"env"`
		} `json:"process"`
		Mounts []struct {
			Source      string `json:"source"`
			Destination string `json:"destination"`
			Type        string `json:"type"`
		} `json:"mounts"`
	} `json:"spec"`
}

// podmanState is what it keeps of how one goes.
type podmanState struct {
	State    int       `json:"state"`
	PID      int       `json:"pid"`
	ExitCode int       `json:"exitCode"`
	Starved  bool      `json:"oomKilled"`
	Restarts int       `json:"restartCount"`
	RunDir   string    `json:"runDir"`
	Started  time.Time `json:"startedTime"`
	Ended    time.Time `json:"finishedTime"`
	Networks map[string]struct {
		Interfaces map[string]struct {
			Subnets []struct {
				IPNet   string `json:"ipnet"`
				Gateway string `json:"gateway"`
			} `json:"subnets"`
		} `json:"interfaces"`
	} `json:"networkStatus"`
}

// podmanStates is its numbers for states (libpod's ContainerStatus).
var podmanStates = map[int]string{1: "created", 2: "created", 3: "running", 4: "exited", 5: "paused", 6: "exited",
	7: "exited", 8: "running"}

// podmanBolt reads the database of Podman before version 5: a bucket for each container, with
// two documents.
func podmanBolt(ctx context.Context, path string) ([]fact.Container, error) {
	db, err := bbolt.Open(path, 0, &bbolt.Options{ReadOnly: true, Timeout: diskTime})
	if err != nil {
		return nil, err
	}
	defer db.Close()
	var list []fact.Container
	err = db.View(func(tx *bbolt.Tx) error {
		bucket := tx.Bucket([]byte("ctr"))
		if bucket == nil {
			return nil
		}
		return bucket.ForEachBucket(func(id []byte) error {
			each := bucket.Bucket(id)
			if c, ok := podmanContainer(ctx, each.Get([]byte("config")), each.Get([]byte("state"))); ok {
				list = append(list, c)
			}
			return nil
		})
	})
	return list, err
}

// podmanSQLite reads the database of Podman since version 5.
func podmanSQLite(ctx context.Context, path string) ([]fact.Container, error) {
	db, err := sql.Open("sqlite", "file:"+url.PathEscape(path)+"?mode=ro&_pragma=busy_timeout(500)")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx,
		"SELECT c.JSON, s.JSON FROM ContainerConfig c JOIN ContainerState s ON s.ID = c.ID ORDER BY c.ID")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []fact.Container
	for rows.Next() {
		var config, state []byte
		if err := rows.Scan(&config, &state); err != nil {
			return list, err
		}
		if c, ok := podmanContainer(ctx, config, state); ok {
			list = append(list, c)
		}
	}
	return list, rows.Err()
}

func podmanContainer(ctx context.Context, configText, stateText []byte) (fact.Container, bool) {
	var config podmanConfig
	var state podmanState
	if json.Unmarshal(configText, &config) != nil || json.Unmarshal(stateText, &state) != nil || config.ID == "" {
		return fact.Container{}, false
	}
	c := fact.Container{
		Engine: "podman", ID: foreign.Clean(config.ID), Name: foreign.Clean(config.Name),
		Image: foreign.Clean(config.ImageName), Digest: foreign.Clean(config.ImageID), Pod: foreign.Clean(config.Pod),
		Shares: foreign.Clean(config.Shares), HostNet: !config.OwnNet && config.Shares == "",
		State: podmanStates[state.State], ExitCode: state.ExitCode, Starved: state.Starved, PID: state.PID,
		Restarts: state.Restarts, Policy: foreign.Clean(config.Policy), Started: state.Started.UTC(),
	}
	settle(&c, state.Ended)
	for _, p := range config.Ports {
		for i := range max(p.Range, 1) {
			each := fact.Published{Transport: p.Proto, Port: p.Port + i, Inside: p.To + i}
			if addr, err := netip.ParseAddr(p.Addr); err == nil && !addr.IsUnspecified() {
				each.Addr = addr.Unmap()
			}
			c.Published = append(c.Published, each)
		}
	}
	for name, n := range state.Networks {
		each := fact.Network{Name: foreign.Clean(name)}
		each.Internal, each.Isolated = networkOnDisk(name)
		for _, link := range n.Interfaces {
			for _, net := range link.Subnets {
				if p, err := netip.ParsePrefix(net.IPNet); err == nil {
					each.Addrs = append(each.Addrs, p.Addr())
				}
				each.Gateway, _ = netip.ParseAddr(net.Gateway)
			}
		}
		c.Networks = append(c.Networks, each)
	}
	slices.SortFunc(c.Networks, func(a, b fact.Network) int { return strings.Compare(a.Name, b.Name) })
	for _, variable := range config.Spec.Process.Env {
		variable, _, _ = strings.Cut(variable, "=")
		c.Names = append(c.Names, foreign.Clean(variable))
	}
	for _, m := range config.Spec.Mounts {
		if m.Type == "bind" && !strings.Contains(m.Source, "/userdata/") { // those are the engine's own
			c.Mounts = append(c.Mounts, fact.Mount{
				Source: foreign.Clean(m.Source), Inside: foreign.Clean(m.Destination),
			})
		}
	}
	c.Health, c.Checked = checkOnDisk(ctx, filepath.Dir(state.RunDir))
	if c.State != "running" {
		c.Log = logOnDisk(ctx, config.LogPath)
	}
	return c, true
}

// settle says of a container that was left as running whether it runs: what ended it is kept
// until the engine is used again.
func settle(c *fact.Container, ended time.Time) {
	if c.State != "running" || processAlive(c.PID) {
		if c.State != "running" && ended.Year() > 1 {
			c.Ended = ended.UTC()
		}
		return
	}
	c.State, c.PID = "exited", 0
	path := filepath.Join("/run/libpod/exits", filepath.Base(c.ID))
	if text, err := common.ReadSome(path); err == nil {
		if code, err := strconv.Atoi(strings.TrimSpace(string(text))); err == nil {
			c.ExitCode = code
		}
		if info, err := os.Stat(path); err == nil {
			c.Ended = info.ModTime().UTC()
		}
	}
}

func processAlive(pid int) bool {
	_, err := os.Stat(procFile(pid, "stat"))
	return pid > 0 && err == nil
}

// networkOnDisk is what the file of a network says of whom it lets out, and to whom. That of
// the network by default is not there, and lets all through.
func networkOnDisk(name string) (internal, isolated bool) {
	text, err := common.ReadSome(filepath.Join("/etc/containers/networks", filepath.Base(name)+".json"))
	if err != nil {
		return false, false
	}
	var n toldNetwork
	if json.Unmarshal(text, &n) != nil {
		return false, false
	}
	return n.Internal, n.Options["isolate"] == "true"
}

// checkOnDisk is how a container's own check of its health went last, and what it said.
func checkOnDisk(ctx context.Context, folder string) (health, said string) {
	if !filepath.IsAbs(folder) {
		return "", ""
	}
	text, err := common.ReadSome(filepath.Join(folder, "healthcheck.log"))
	if err != nil {
		return "", ""
	}
	var checks struct {
		Status string
		Log    []struct{ Output string }
	}
	if json.Unmarshal(text, &checks) != nil {
		return "", ""
	}
	if last := len(checks.Log) - 1; last >= 0 {
		said = foreign.Shortened(common.LogLine(ctx, strings.TrimSpace(checks.Log[last].Output)))
	}
	return foreign.Clean(checks.Status), said
}

// logOnDisk is the last lines of a log as engines write it: "TIME STREAM F TEXT", or a
// document a line.
func logOnDisk(ctx context.Context, path string) []fact.LogLine {
	if !filepath.IsAbs(path) {
		return nil
	}
	text, err := tailOf(path)
	if err != nil {
		return nil // the journal has it, or nobody
	}
	var list []fact.LogLine
	for line := range bytes.Lines(text) {
		var document struct {
			Log  string    `json:"log"`
			Time time.Time `json:"time"`
		}
		if json.Unmarshal(line, &document) == nil && !document.Time.IsZero() {
			list = append(list, fact.LogLine{At: document.Time.UTC(),
				Text: common.LogLine(ctx, strings.TrimRight(document.Log, "\r\n"))})
			continue
		}
		stamp, rest, _ := strings.Cut(strings.TrimRight(string(line), "\r\n"), " ")
		at, err := time.Parse(time.RFC3339Nano, stamp)
		if err != nil {
			continue // the first line may be cut
		}
		_, rest, _ = strings.Cut(rest, " ") // the stream
		rest = strings.TrimPrefix(strings.TrimPrefix(rest, "F "), "P ")
		list = append(list, fact.LogLine{At: at.UTC(), Text: common.LogLine(ctx, rest)})
	}
	return list[max(0, len(list)-mostEngineLog):]
}

// tailOf is the end of a file.
func tailOf(path string) ([]byte, error) {
	const most = 64 << 10
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return nil, errors.Join(err, fmt.Errorf("%s is no file", path))
	}
	from := max(0, info.Size()-most)
	text := make([]byte, info.Size()-from)
	n, err := f.ReadAt(text, from)
	if n > 0 {
		err = nil
	}
	return text[:n], err
}

// dockerFolder reads the documents of containers that dockerd keeps, one folder each.
func dockerFolder(ctx context.Context, path string) ([]fact.Container, error) {
	entries, err := os.ReadDir(path)
	if err != nil {
		return nil, err
	}
	var list []fact.Container
	for _, entry := range entries[:min(len(entries), mostContainers)] {
		c, ok := dockerContainer(ctx, filepath.Join(path, entry.Name()))
		if ok {
			list = append(list, c)
		}
	}
	return list, nil
}

func dockerContainer(ctx context.Context, folder string) (fact.Container, bool) {
	text, err := common.ReadSome(filepath.Join(folder, "config.v2.json"))
	if err != nil {
		return fact.Container{}, false
	}
	var config struct {
		told
		ID      string
		LogPath string
		State   struct{ Running, Paused, Restarting, Dead bool }
	}
	var t told
	// The documents are those that it tells over its socket, but for the state, which is in
	// words there.
	if json.Unmarshal(text, &config) != nil || json.Unmarshal(text, &t) != nil || config.ID == "" {
		return fact.Container{}, false
	}
	t.ID = config.ID
	if host, err := common.ReadSome(filepath.Join(folder, "hostconfig.json")); err != nil ||
		json.Unmarshal(host, &t.HostConfig) != nil {
		return fact.Container{}, false
	}
	switch s := config.State; {
	case s.Paused:
		t.State.Status = "paused"
	case s.Restarting:
		t.State.Status = "restarting"
	case s.Dead:
		t.State.Status = "dead"
	case s.Running:
		t.State.Status = "running"
	default:
		t.State.Status = "exited"
	}
	c := t.container(ctx, "docker", nil)
	settle(&c, t.State.FinishedAt)
	if c.State != "running" {
		c.Log = logOnDisk(ctx, config.LogPath)
	}
	return c, true
}
