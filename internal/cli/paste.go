package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"uakari/internal/fact"
	"uakari/internal/look/file"
	"uakari/internal/paste"
	"uakari/internal/settingsfile"
)

// small is the looks of a record that bear on one endpoint; of the others a trace can do
// without when every line has to be copied by hand.
var small = []fact.Kind{
	fact.LookIdentity, fact.LookAddresses, fact.LookListeners, fact.LookService, fact.LookKernel, fact.LookTables,
	fact.LookRoutes, fact.LookRoute, fact.LookBarriers, fact.LookAccess, fact.LookCertFiles, fact.LookUpstreams,
	fact.LookSession, fact.LookPeers, fact.LookAccount, fact.LookContainers,
}

// systemsOwn is the control groups of the system's own services, whose packet programs see no
// packet of another service.
const systemsOwn = "/system.slice/systemd-"

// smaller is a record without what does not bear on its endpoint.
func smaller(r fact.HostRecord) fact.HostRecord {
	var kept []fact.Fact
	for _, f := range r.Facts {
		if !slices.Contains(small, f.Order.Look) || f.Failed != nil && f.Failed.CutOff {
			continue
		}
		if f.Barriers != nil {
			b := *f.Barriers
			b.Groups = slices.DeleteFunc(slices.Clone(b.Groups), func(g fact.GroupProgram) bool {
				return strings.HasPrefix(g.Group, systemsOwn)
			})
			f.Barriers, f.Saw = &b, fmt.Sprintf("%d packet programs of control groups", len(b.Groups))
		}
		kept = append(kept, f)
	}
	r.Facts = kept
	return r
}

// pasted writes a record as text that can be copied from a console.
func (f *recordFlags) pasted(cmd *cobra.Command, r fact.HostRecord) error {
	if f.small {
		r = smaller(r)
	}
	data, err := json.Marshal(r)
	if err != nil {
		return err
	}
	text, err := paste.Write(fmt.Sprintf("RECORD %s %s", strings.ReplaceAll(r.Host, " ", "_"),
		r.Ended.UTC().Format("2006-01-02T15:04:05Z")), data)
	if err != nil {
		return err
	}
	return write(cmd, f.file, []byte(text))
}

// readRecord reads a record: a file, or "-" for standard input, as uakari record wrote it or
// pasted with anything around it.
func (s *seeing) readRecord(ctx context.Context, path string) (fact.HostRecord, error) {
	var text []byte
	var err error
	name := path
	if path == "-" {
		name = "standard input"
		text, err = io.ReadAll(io.LimitReader(os.Stdin, file.MostKept))
		text = []byte(settingsfile.Decode(text))
	} else {
		text, err = s.read(ctx, path, file.MostKept)
	}
	if err != nil {
		return fact.HostRecord{}, err
	}
	if text, err = unpasted(name, text); err != nil {
		return fact.HostRecord{}, err
	}
	return fact.DecodeRecord(name, text)
}

// unpasted is what was pasted in a text; a text without anything pasted as it is.
func unpasted(name string, text []byte) ([]byte, error) {
	if !paste.Is(text) {
		return text, nil
	}
	data, err := paste.Read(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return data, nil
}
