package standin

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"
)

// Console lets people, and programs, type at a stand-in over TCP: a line is a command, and
// what it says ends with its prompt. While it restarts, nothing is answered.
func (u *Upgrade) Console(ctx context.Context, l net.Listener) error {
	var wg sync.WaitGroup
	defer wg.Wait()
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	for {
		c, err := l.Accept()
		switch {
		case ctx.Err() != nil:
			return nil
		case errors.Is(err, net.ErrClosed):
			return err
		case err != nil:
			time.Sleep(5 * time.Millisecond)
			continue
		}
		wg.Go(func() {
			defer c.Close()
			quit := context.AfterFunc(ctx, func() { c.Close() })
			defer quit()
			u.talk(ctx, c)
		})
	}
}

// longestCommand bounds one line.
const longestCommand = 4096

func (u *Upgrade) talk(ctx context.Context, c net.Conn) {
	prompt := u.Box.Device.Name.Text + "> "
	say := func(text string) bool { _, err := fmt.Fprint(c, text); return err == nil }
	in := bufio.NewScanner(c)
	in.Buffer(make([]byte, 0, 512), longestCommand)
	for say(prompt) && in.Scan() {
		command := strings.TrimSpace(strings.Map(func(r rune) rune {
			if r < ' ' {
				return -1
			}
			return r
		}, in.Text()))
		if command == "" {
			continue
		}
		u.tell("typed: %s", command)
		// As a console does, it shows the line that was typed, so that who reads along has it.
		says, restarts := u.Do(ctx, command)
		if !say(command + "\r\n" + strings.Join(says, "\r\n") + "\r\n") {
			return
		}
		if !restarts {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(u.Restarts):
		}
		u.Restart()
		if !say("started\r\n") {
			return
		}
	}
}
