package wire

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/cloudsoda/go-smb2"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// smbDialects is the versions of SMB 2 and 3 that are offered (MS-SMB2 section
// 2.2.3), without the last, which wants more than a number.
var smbDialects = []uint16{0x0202, 0x0210, 0x0300, 0x0302}

// askSMB asks which version the server speaks (MS-SMB2 section 2.2.3).
func askSMB(c *Conn, _ Question) fact.Reply {
	header := make([]byte, 64)
	copy(header, "\xfeSMB")
	binary.LittleEndian.PutUint16(header[4:], 64)
	binary.LittleEndian.PutUint16(header[14:], 1) // credits
	body := make([]byte, 36)
	binary.LittleEndian.PutUint16(body, 36)
	binary.LittleEndian.PutUint16(body[2:], uint16(len(smbDialects)))
	body[4] = 1 // signing is possible
	rand.Read(body[12:28])
	for _, d := range smbDialects {
		body = binary.LittleEndian.AppendUint16(body, d)
	}
	message := append(header, body...)
	send := string(binary.BigEndian.AppendUint32(nil, uint32(len(message)))) + string(message)
	return c.ask("smb", "which version it speaks", send, func(r *fact.Reply) error {
		head := make([]byte, 4+64+6)
		if n, err := io.ReadFull(c, head); err != nil {
			r.Text = foreign.Clean(string(head[:n]))
			return err
		}
		switch {
		case string(head[4:8]) == "\xffSMB":
			r.Code, r.Text = "version", "it speaks only the first version of SMB"
		case head[0] != 0 || string(head[4:8]) != "\xfeSMB" || binary.LittleEndian.Uint16(head[4+12:]) != 0 ||
			head[4+16]&1 == 0: // an answer to this command
			r.Spoke = Recognise(head)
			return errors.New("not SMB")
		case binary.LittleEndian.Uint32(head[12:]) != 0:
			r.Code = fmt.Sprintf("%08X", binary.LittleEndian.Uint32(head[12:]))
			r.Text = "the server refuses to speak"
		default:
			d := binary.LittleEndian.Uint16(head[4+64+4:])
			if binary.LittleEndian.Uint16(head[4+64:]) != 65 || !slices.Contains(smbDialects, d) {
				return errors.New("not SMB")
			}
			r.Program, r.Refused = fmt.Sprintf("SMB %d.%d.%d", d>>8, d>>4&15, d&15), true
		}
		return nil
	})
}

// loginSMB signs in by NTLM, as "DOMAIN\account" or "account@domain" say, and
// mounts the share that the endpoint names.
func loginSMB(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "NTLM"}
	who := &smb2.NTLMInitiator{User: with.Account, Password: with.Secret}
	if domain, user, ok := strings.Cut(with.Account, `\`); ok {
		who.Domain, who.User = domain, user
	}
	refused := func(err error) (fact.Login, error) {
		var status *smb2.ResponseError
		if !errors.As(err, &status) {
			return l, err
		}
		l.Outcome, l.Code, l.Text = fact.LoginRefused, fmt.Sprintf("%08X", status.Code), status.Error()
		return l, nil
	}
	ctx, cancel := context.WithTimeout(
		context.Background(),
		10*time.Second,
	) // the connection's own deadline comes before
	defer cancel()
	with.presenting()
	session, err := (&smb2.Dialer{Initiator: who}).DialConn(ctx, c, with.Host)
	if err != nil {
		return refused(err)
	}
	defer session.Logoff()
	l.Outcome = fact.LoginAccepted
	share, _, _ := strings.Cut(strings.Trim(with.Path, "/"), "/")
	if share == "" {
		return l, nil
	}
	mounted, err := session.WithContext(ctx).Mount(share)
	if errors.Is(err, os.ErrPermission) { // what the library makes of this status
		l.Outcome, l.Code, l.Text = fact.LoginRefused, "C0000022 share",
			"the account is accepted, and the share "+share+" is denied to it"
		return l, nil
	}
	if err != nil {
		return refused(err)
	}
	return l, mounted.Umount()
}
