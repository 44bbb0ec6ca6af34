package rulebook

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A TFTP client that does not ask for a block size gets blocks of 512 bytes, and its block
// numbers end at 65535 (RFC 1350 section 5).
func TestObstacle(t *testing.T) {
	transfer := func(text string) *Transfer {
		rb, err := Read("qm.yaml", []byte("kind: rulebook\ntitle: x\ntransfer: "+text+"\n"))
		require.NoError(t, err)
		return rb.Transfer
	}
	const most = 65535*512 - 1
	for _, c := range []struct {
		transfer string // "" for none
		name     string
		size     int64
		want     Obstacle
	}{
		{"{protocol: tftp, blocksize: false}", "a.img", most, NoObstacle},
		{"{protocol: tftp, blocksize: false}", "a.img", most + 1, TooLarge},
		{"{protocol: TFTP, blocksize: false}", "a.img", most + 1, TooLarge},
		{"{protocol: tftp, blocksize: true}", "a.img", most + 1, NoObstacle},
		{"{protocol: tftp}", "a.img", most + 1, NoObstacle},
		{"{protocol: tftp, blocksize: false, largest: 1KiB}", "a.img", 1025, TooLarge},
		{"{protocol: tftp, largest: 1KiB}", "a.img", 1024, NoObstacle},
		{"{protocol: tftp, longest_name: 8}", "abcd.img", 0, NoObstacle},
		{"{protocol: tftp, longest_name: 8}", "abcde.img", 0, NameTooLong},
		{"{protocol: tftp}", "a b.img", 0, StrangeName},
		{"", "a b.img", 0, StrangeName},
		{"", "ä.img", 0, StrangeName},
		{"", "", 0, StrangeName},
		{"", strings.Repeat("x", 300), 1 << 40, NoObstacle},
	} {
		var tr *Transfer
		if c.transfer != "" {
			tr = transfer(c.transfer)
		}
		assert.Equal(t, c.want, tr.Obstacle(c.name, c.size), "%s %q %d", c.transfer, c.name, c.size)
	}
}
