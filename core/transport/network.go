package transport

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"syscall"

	"fitcheck/core/tftp"
)

// listenError says of an address that cannot be listened on why, in kind.
func listenError(err error) error {
	switch {
	case errors.Is(err, os.ErrPermission):
		return errors.Join(ErrNoRights, err)
	case errors.Is(err, syscall.EADDRINUSE):
		return errors.Join(ErrTaken, err)
	}
	return err
}

// plainWhy says in plain words why a transfer ended; "" where there is nothing to say.
func plainWhy(err error) string {
	var told *tftp.Error
	switch {
	case errors.As(err, &told):
		return told.Error()
	case errors.Is(err, tftp.ErrTimeout), errors.Is(err, os.ErrDeadlineExceeded):
		return "the other side no longer answers"
	case errors.Is(err, context.Canceled), errors.Is(err, net.ErrClosed):
		return "the server was ended"
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "the other side went away"
	}
	return ""
}

// peerOf is an address without its port.
func peerOf(addr string) string {
	if host, _, err := net.SplitHostPort(addr); err == nil {
		return host
	}
	return addr
}
