//go:build !linux

package transport

import (
	"context"
	"net"
)

// arrived cannot be told on this system: what was handed to it counts as over.
func arrived(context.Context, net.Conn) error { return nil }
