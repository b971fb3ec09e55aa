package vantage

import (
	"context"
	"fmt"
	"os"
	"os/exec"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
)

// Within starts this program in a container or a namespace of this host, and
// looks from there as from another host.
func Within(ctx context.Context, place string, info fact.Vantage, env look.Env, first []fact.Order) (*SSH, error) {
	s := &SSH{
		info: info, ended: make(chan struct{}), looks: map[int]*pending{}, stderr: &tail{},
		early: map[fact.Order]*early{},
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(self, "look", "--in", place)
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	complaints, err := cmd.StderrPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("--in %s: %w", place, err)
	}
	s.out, s.hangUp = in, func() { in.Close() }
	if _, err := s.greet(ctx, out, complaints, nil, env, first); err != nil {
		s.Close()
		cmd.Process.Kill()
		cmd.Wait()
		if text := foreign.Clean(s.stderr.String()); text != "" {
			return nil, fmt.Errorf("%s", text)
		}
		return nil, err
	}
	go cmd.Wait() // it ends with its input
	s.info.Host = place
	return s, nil
}
