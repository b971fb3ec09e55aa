package sshclient

import (
	"context"
	"errors"
	"io"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// ErrNoAgent says that this user has no agent.
var ErrNoAgent = errors.New("there is no agent")

// agentWait bounds all that is asked of an agent: one that is asked for a
// confirmation may never answer.
const agentWait = 15 * time.Second

// Agent is the connection to this user's agent.
type Agent struct {
	agent.ExtendedAgent
	conn agentConn
}

// agentConn is a connection to an agent, over a socket or a named pipe.
type agentConn interface {
	io.ReadWriteCloser
	SetDeadline(time.Time) error
}

// OpenAgent connects to the agent, for as long as the context lasts and no
// longer than some seconds. The caller closes it.
func OpenAgent(ctx context.Context) (*Agent, error) {
	conn, err := dialAgent(ctx)
	if err != nil {
		return nil, err
	}
	until := time.Now().Add(agentWait)
	if deadline, ok := ctx.Deadline(); ok && deadline.Before(until) {
		until = deadline
	}
	conn.SetDeadline(until)
	context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })
	return &Agent{agent.NewClient(conn), conn}, nil
}

// Close ends the connection; keys of the agent sign nothing any more.
func (a *Agent) Close() error { return a.conn.Close() }

// AgentKeys is the keys of the agent, which sign until close is called.
func AgentKeys(ctx context.Context) (keys []ssh.Signer, close func(), err error) {
	a, err := OpenAgent(ctx)
	if err != nil {
		return nil, func() {}, err
	}
	if keys, err = a.Signers(); err != nil {
		a.Close()
		return nil, func() {}, err
	}
	return keys, func() { a.Close() }, nil
}
