package programfiles

import (
	"bytes"
	"cmp"
	"context"
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/look/trust"
	"uakari/internal/program"
)

// CertFiles leaves the certificates and keys that the settings of a service
// name: of the program that holds the port or, where nobody does, or somebody who has
// no certificates, of every one that is set up here.
func (h *Host) CertFiles(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	files := fact.CertFiles{Pairs: []fact.CertPair{}}
	held := h.On(ctx, env, order.Target.Port)
	holders, programs := held, knownOrAll(env, held)
	if !slices.ContainsFunc(programs, func(p program.Program) bool {
		_, holds := Holding(p, held)
		return holds && len(p.Settings.Certificate) > 0
	}) { // whoever holds it may have taken it from one that serves certificates
		holders, programs = nil, env.Registry().All()
	}
	for _, p := range programs {
		s := certSetting{p}
		pid, holds := Holding(p, holders)
		if len(p.Settings.Certificate) == 0 || !holds && len(holders) > 0 {
			continue
		}
		if pid == 0 || !holds {
			pid = h.Process(p)
		}
		sources, begin, outer := h.SettingsOf(p, pid), len(files.Pairs), ""
		for _, from := range sources {
			if from.Err != nil {
				emit(env.Failed(order, from.Path, "could not read which certificates are set", from.Err, "root"))
				continue
			}
			folder := filepath.Dir(from.Path)
			switch p.Settings.Begin {
			case "first":
				folder = filepath.Dir(sources[0].Path)
			case "above":
				folder = filepath.Dir(filepath.Dir(sources[0].Path))
			}
			pairs, stores, versions := s.pairs(string(from.Text), from.Path, folder)
			outer = cmp.Or(outer, versions)
			for i := range stores {
				h.readStore(&stores[i], h.reader(p, pid), from.By)
			}
			for i := range pairs {
				h.readPair(&pairs[i], h.reader(p, pid), from.By)
			}
			files.Pairs, files.Stores = append(files.Pairs, pairs...), append(files.Stores, stores...)
		}
		for i := begin; i < len(files.Pairs); i++ {
			files.Pairs[i].Versions = cmp.Or(files.Pairs[i].Versions, outer)
		}
	}
	if c := env.Card; c != nil && c.Certificate != "" {
		p := fact.CertPair{
			Program: orName(c.Program, c.Name),
			Place:   "the card",
			Cert:    c.Certificate,
			Key:     c.CertificateKey,
		}
		if p.Key == "" {
			p.Key = p.Cert
		}
		h.readPair(&p, h.cardReader(held, p.Program), env.CardBy)
		files.Pairs = append(files.Pairs, p)
	}
	files.Pairs, files.Stores = files.Pairs[:min(len(files.Pairs), fact.MostPairs)],
		files.Stores[:min(len(files.Stores), fact.MostPairs)]
	f := env.Seen(order, "certificate files", sawPairs(files.Pairs))
	f.CertFiles = &files
	emit(f)
}

func orName(program, name string) string {
	if program == "" {
		return name
	}
	return filepath.Base(program)
}

func sawPairs(pairs []fact.CertPair) string {
	if len(pairs) == 0 {
		return "no settings here name any"
	}
	var parts []string
	for _, p := range pairs {
		switch {
		case p.Wrong != "":
			parts = append(parts, p.Wrong)
		case p.Belongs != nil && !*p.Belongs:
			parts = append(parts, p.Key+" does not belong to "+p.Cert)
		default:
			parts = append(parts, p.Cert)
		}
	}
	return strings.Join(parts[:min(len(parts), 3)], ", ")
}

// readPair reads the files of a pair, and whether the key belongs to the
// certificate. Nothing of the key is kept.
func (h *Host) readPair(p *fact.CertPair, reader string, by file.Account) {
	info, err := os.Stat(p.Cert)
	if err != nil {
		blame(p, p.Cert, err)
		return
	}
	if info.IsDir() {
		p.Unread = p.Cert + " is a folder of certificates, which is not looked into"
		return
	}
	p.Changed = h.Changed(info)
	text, err := by.Head(p.Cert, common.MostSettings)
	if err != nil {
		blame(p, p.Cert, err)
		return
	}
	if len(text) > 0 && !bytes.Contains(text, []byte("-----BEGIN ")) {
		readKept(p, text)
		return
	}
	for rest := text; ; {
		var b *pem.Block
		if b, rest = pem.Decode(rest); b == nil {
			break
		}
		if b.Type != "CERTIFICATE" && b.Type != "TRUSTED CERTIFICATE" {
			continue
		}
		if _, err := x509.ParseCertificate(b.Bytes); err != nil {
			p.Wrong = fmt.Sprintf("%s is corrupt: a certificate in it cannot be read", p.Cert)
			return
		}
		p.Chain = append(p.Chain, slices.Clone(b.Bytes))
	}
	if len(p.Chain) == 0 {
		p.Wrong = "there is no certificate in PEM form in " + p.Cert
		return
	}
	if reader != "" && reader != "root" {
		if denied := h.Stopped(reader, p.Cert); denied != "" {
			p.Wrong = denied
			return
		}
	}
	h.readKey(p, reader, by)
}

// readKept reads a store that keeps certificates with their keys, in PKCS #12 or
// of Java. One whose secret is not a usual one is not looked into.
func readKept(p *fact.CertPair, text []byte) {
	c, err := trust.Read(p.Cert, text, "")
	switch {
	case err == nil:
		p.Chain = c.Certs
	case strings.Contains(err.Error(), "does not open"):
		p.Unread = p.Cert + " is a store with a secret of its own"
	default:
		p.Wrong = "there is no certificate in PEM form in " + p.Cert + ", and it is no store either: " + err.Error()
	}
}

// readStore reads the certificates by which clients are judged.
func (h *Host) readStore(s *fact.ClientStore, reader string, by file.Account) {
	if info, err := os.Stat(s.Path); err == nil && reader != "" && reader != "root" && !info.IsDir() {
		if s.Wrong = h.Stopped(reader, s.Path); s.Wrong != "" {
			return
		}
	}
	var c trust.Contents
	text, err := by.Head(s.Path, trust.MostFile)
	if err == nil {
		c, err = trust.Read(s.Path, text, "")
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		s.Wrong = "there is no file " + s.Path
	case errors.Is(err, file.ErrKind), errors.Is(err, file.ErrForeign):
		s.Unread = err.Error()
	case errors.Is(err, fs.ErrPermission):
		s.Unread = s.Path + " may not be read by this look; root may"
	case err != nil:
		s.Wrong = err.Error()
	case len(c.Certs) > mostStored:
		s.Unread = fmt.Sprintf("%s holds %d certificates, more than are kept", s.Path, len(c.Certs))
	default:
		s.Roots = c.Certs
	}
}

// mostStored bounds how many certificates of one store are kept.
const mostStored = 400

// blame says of a file that could not be read whether that is the service's
// trouble or only this look's.
func blame(p *fact.CertPair, path string, err error) {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		p.Wrong = "there is no file " + path
	case errors.Is(err, fs.ErrPermission):
		p.Unread = path + " may not be read by this look; root may"
	default:
		p.Unread = err.Error()
	}
}

// readKey compares the key with the certificate. It is read, compared and
// forgotten.
func (h *Host) readKey(p *fact.CertPair, reader string, by file.Account) {
	if p.Key == "" {
		p.Unread = "the settings name no key beside it"
		return
	}
	info, err := os.Stat(p.Key)
	if err != nil {
		blame(p, p.Key, err)
		return
	}
	if reader != "" && reader != "root" {
		if p.Wrong = h.Stopped(reader, p.Key); p.Wrong != "" {
			return
		}
	}
	if p.Program == program.PostgreSQL {
		if p.Wrong = h.TooOpen(p.Key, info); p.Wrong != "" {
			return
		}
	}
	text, err := by.Head(p.Key, common.MostSettings)
	if err != nil {
		blame(p, p.Key, err)
		return
	}
	cert, err := x509.ParseCertificate(p.Chain[0])
	if err != nil {
		return // it was parsed before
	}
	for rest := text; ; {
		var b *pem.Block
		if b, rest = pem.Decode(rest); b == nil {
			p.Wrong = "there is no private key in PEM form in " + p.Key
			return
		}
		if !strings.HasSuffix(b.Type, "PRIVATE KEY") {
			continue
		}
		if b.Type == "ENCRYPTED PRIVATE KEY" || b.Headers["DEK-Info"] != "" {
			p.Unread = p.Key + " is encrypted, and was not compared with the certificate"
			return
		}
		key, err := parseKey(b.Bytes)
		if err != nil {
			p.Wrong = p.Key + " is corrupt: the key in it cannot be read"
			return
		}
		belongs := belongsTo(key, cert)
		p.Belongs = &belongs
		return
	}
}

func parseKey(der []byte) (any, error) {
	if key, err := x509.ParsePKCS8PrivateKey(der); err == nil {
		return key, nil
	}
	if key, err := x509.ParseECPrivateKey(der); err == nil {
		return key, nil
	}
	return x509.ParsePKCS1PrivateKey(der)
}

// belongsTo reports whether the public half of a key is the one in a
// certificate.
func belongsTo(key any, cert *x509.Certificate) bool {
	private, ok := key.(interface{ Public() crypto.PublicKey })
	if !ok {
		return false
	}
	public, ok := private.Public().(interface{ Equal(crypto.PublicKey) bool })
	return ok && public.Equal(cert.PublicKey)
}

// reader is the user that reads the files: the one that the program runs as,
// or would.
func (h *Host) reader(p program.Program, pid int) string {
	if p.Account == "" {
		return "" // it reads them as root, before it becomes another
	}
	if pid != 0 {
		if user := h.User(pid); user != "" {
			return user
		}
	}
	return p.Account
}

// cardReader is the user that the program of a card runs as, by who holds the
// port.
func (h *Host) cardReader(held map[string]int, program string) string {
	if pid := held[program]; pid != 0 {
		return h.User(pid)
	}
	return ""
}
