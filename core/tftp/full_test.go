package tftp

import (
	"context"
	"errors"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
)

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("the disk is full") }

// A receiver takes as many bytes as it may, and no block that is longer than was agreed on; where it cannot write, it
// says so.
func TestWhatAReceiverRefuses(t *testing.T) {
	take := func(limit int64, blocks ...int) (string, error) {
		conn := &sent{}
		s := newSession(context.Background(), conn, &net.UDPAddr{}, Options{Limit: limit})
		s.window, s.block = 1, 8
		r := &receiving{s: s, w: discard{}, next: 1}
		for i, size := range blocks {
			if _, err := r.take(&packet{op: opData, block: uint16(i + 1), data: make([]byte, size)}); err != nil {
				return conn.packets[len(conn.packets)-1], err
			}
		}
		return "", nil
	}
	_, err := take(0, 8, 8, 3)
	assert.NoError(t, err)
	_, err = take(16, 8, 8)
	assert.NoError(t, err, "just as many as may be")
	said, err := take(16, 8, 8, 1)
	assert.ErrorContains(t, err, "more than 16 bytes")
	assert.Equal(t, "op 5", said)
	_, err = take(16, 8, 9)
	assert.ErrorContains(t, err, "a block of 9 bytes, and 8 were agreed on")
	conn := &sent{}
	s := newSession(context.Background(), conn, &net.UDPAddr{}, Options{})
	s.window, s.block = 1, 8
	more, err := (&receiving{s: s, w: full{}, next: 1}).take(&packet{op: opData, block: 1, data: make([]byte, 8)})
	assert.ErrorContains(t, err, "the disk is full")
	assert.False(t, more)
	assert.Equal(t, []string{"op 5"}, conn.packets, "the other side is told")
}

type discard struct{}

func (discard) Write(b []byte) (int, error) { return len(b), nil }
