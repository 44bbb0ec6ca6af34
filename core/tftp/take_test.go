package tftp

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sent keeps what goes out, and nothing comes in.
type sent struct {
	net.PacketConn
	packets []string
}

func (s *sent) WriteTo(b []byte, _ net.Addr) (int, error) {
	p, err := parse(b)
	if err != nil {
		return 0, err
	}
	if p.op == opAck {
		s.packets = append(s.packets, fmt.Sprint(p.block))
	} else {
		s.packets = append(s.packets, fmt.Sprintf("op %d", p.op))
	}
	return len(b), nil
}

// What a receiver answers to each block, by RFC 1350 and in windows by RFC 7440: a block that came before tells that its
// acknowledgement was lost; one that is ahead, that one between was; and neither is answered twice.
func TestWhatAReceiverAnswers(t *testing.T) {
	options := oack([]option{{"windowsize", "4"}})
	for name, c := range map[string]struct {
		window int
		answer []byte
		blocks []uint16
		want   []string // the answer to each
		got    int      // blocks that were written
	}{
		"one by one":                       {1, nil, []uint16{1, 2, 3}, []string{"1", "2", "3"}, 3},
		"an acknowledgement was lost":      {1, nil, []uint16{1, 1, 2, 2}, []string{"1", "1", "2", "2"}, 2},
		"ahead, one by one":                {1, nil, []uint16{1, 3, 2}, []string{"1", "", "2"}, 2},
		"long past":                        {1, nil, []uint16{1, 2, 1, 3}, []string{"1", "2", "", "3"}, 3},
		"before anything was answered":     {4, nil, []uint16{0, 5, 1}, []string{"", "", ""}, 1},
		"windows":                          {3, options, []uint16{1, 2, 3, 4}, []string{"", "", "3", ""}, 4},
		"one is missing":                   {4, options, []uint16{1, 2, 4, 5, 3, 4}, []string{"", "", "2", "", "", ""}, 4},
		"one is missing, twice":            {4, options, []uint16{1, 3, 2, 4, 3}, []string{"", "1", "", "2", ""}, 3},
		"the first is missing":             {4, options, []uint16{2, 3, 1}, []string{"op 6", "", ""}, 1},
		"the last of a window again":       {2, options, []uint16{1, 2, 2, 3, 2}, []string{"", "2", "2", "", ""}, 3},
		"a window that goes on after that": {2, options, []uint16{1, 2, 3, 4, 5, 6}, []string{"", "2", "", "4", "", "6"}, 6},
	} {
		t.Run(name, func(t *testing.T) {
			conn := &sent{}
			s := newSession(context.Background(), conn, &net.UDPAddr{}, Options{})
			s.window, s.block = c.window, 8
			var file bytes.Buffer
			r := &receiving{s: s, w: &file, next: 1, answer: c.answer}
			_, err := r.take(&packet{op: opAck, block: 1})
			require.NoError(t, err)
			assert.Empty(t, conn.packets, "what is no data is passed over")
			for i, block := range c.blocks {
				conn.packets = nil
				_, err := r.take(&packet{op: opData, block: block, data: []byte("8 bytes.")})
				require.NoError(t, err)
				assert.Equal(t, c.want[i], strings.Join(conn.packets, " "), "the answer to block %d, number %d", block, i)
			}
			assert.Equal(t, 8*c.got, file.Len())
		})
	}
}
