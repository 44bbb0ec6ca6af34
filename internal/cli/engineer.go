package cli

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"strings"
	"time"

	"fitcheck/core/follow"
)

// engineer sits at the console of a stand-in, for demonstrations: types what a step of the
// runbook says, and what shows the device's state, and hands on what came back.
type engineer struct {
	address, prompt, shows string
	conn                   net.Conn
	in                     *bufio.Reader
}

// answer is what the console shows once a step's commands are typed; none where nothing can
// show whether it is done.
func (e *engineer) answer(ctx context.Context, f *follow.Follower) ([]string, error) {
	in := f.Step()
	if in.Hop == 0 || len(in.Commands) == 0 && f.Needs() == follow.Word {
		return nil, nil
	}
	if e.conn == nil {
		if err := e.connect(ctx); err != nil {
			return nil, err
		}
	}
	var out []string
	for _, command := range append(in.Commands, e.shows) {
		lines, err := e.typed(command)
		if err != nil {
			return nil, err
		}
		out = append(out, lines...)
	}
	if f.Needs() == follow.Word {
		return nil, nil
	}
	return out, nil
}

// connect waits until the console is there.
func (e *engineer) connect(ctx context.Context) error {
	ctx, stop := context.WithTimeout(ctx, time.Minute)
	defer stop()
	for {
		var d net.Dialer
		conn, err := d.DialContext(ctx, "tcp", e.address)
		if err == nil {
			e.conn, e.in = conn, bufio.NewReader(conn)
			_, err = e.until()
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("nobody answers at the console %s", e.address)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// typed is what the console shows for a command, the line with the command first.
func (e *engineer) typed(command string) ([]string, error) {
	if _, err := fmt.Fprintf(e.conn, "%s\n", command); err != nil {
		return nil, err
	}
	text, err := e.until()
	return strings.Split(e.prompt+strings.TrimRight(text, "\r\n"), "\r\n"), err
}

// until reads to the next prompt.
func (e *engineer) until() (string, error) {
	var b strings.Builder
	for !strings.HasSuffix(b.String(), "\n"+e.prompt) && b.String() != e.prompt {
		c, err := e.in.ReadByte()
		if err != nil {
			return "", err
		}
		b.WriteByte(c)
	}
	return strings.TrimSuffix(b.String(), e.prompt), nil
}

func (e *engineer) close() {
	if e != nil && e.conn != nil {
		e.conn.Close()
	}
}
