package transport

import (
	"context"
	"net"
	"os"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// tcpClose is the state of a connection that is over (TCP_CLOSE of linux/net/tcp_states.h).
const tcpClose = 7

// arrived waits until the other side has acknowledged all that was written: only then is a
// transfer whole. What lies in a queue of this computer is not over.
func arrived(ctx context.Context, c net.Conn) error {
	sc, ok := c.(syscall.Conn)
	if !ok {
		return nil
	}
	raw, err := sc.SyscallConn()
	if err != nil {
		return nil
	}
	left, before := 0, -1
	for until := time.Now().Add(idle); ; {
		var ioErr error
		if err := raw.Control(func(fd uintptr) { left, ioErr = unix.IoctlGetInt(int(fd), unix.SIOCOUTQ) }); err != nil || ioErr != nil {
			return net.ErrClosed
		}
		var state *unix.TCPInfo
		_ = raw.Control(func(fd uintptr) { state, ioErr = unix.GetsockoptTCPInfo(int(fd), unix.IPPROTO_TCP, unix.TCP_INFO) })
		if ioErr == nil && state != nil && state.State == tcpClose { // it was reset, and the queue thrown away
			return syscall.ECONNRESET
		}
		if left == 0 {
			return nil
		}
		if left != before { // it goes on
			before, until = left, time.Now().Add(idle)
		}
		if !time.Now().Before(until) {
			return os.ErrDeadlineExceeded
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(2 * time.Millisecond):
		}
	}
}
