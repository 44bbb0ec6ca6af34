package rulebook

import (
	"strings"

	y "fitcheck/core/yamlfile"
)

// blockBound is the largest file that TFTP carries without negotiating a block size
// (RFC 1350): 65535 blocks of 512 bytes, the last of which is not full.
const blockBound = 65535*512 - 1

// bounded is a bound on sizes in bytes, and why; 0 is none. small tells that TFTP sends
// blocks of 512 bytes.
func bounded(largest y.Size, small bool) (most int64, why string) {
	switch {
	case small && (!largest.Set() || largest.Bytes > blockBound):
		return blockBound, "TFTP without block-size negotiation"
	case largest.Set():
		return largest.Bytes, "largest: " + y.FormatSize(largest.Bytes)
	}
	return 0, "no bound"
}

// Carries is the most bytes of one file that the transfer carries, and why; 0 is no
// bound.
func (t *Transfer) Carries() (most int64, why string) {
	return bounded(t.Largest, strings.EqualFold(t.Protocol.Text, "tftp") && t.Blocksize != nil && !*t.Blocksize)
}

// Takes is the most bytes of an image that the boot loader takes and the transfer to it,
// which is TFTP, carries, and why.
func (r *Recovery) Takes() (most int64, why string) {
	return bounded(r.Accepts.Largest, r.Transfer.Blocksize == nil || !*r.Transfer.Blocksize)
}

// Obstacle is why a file is not carried.
type Obstacle int

// The obstacles.
const (
	NoObstacle  Obstacle = iota
	TooLarge             // for the protocol, or the rulebook's bound
	StrangeName          // it holds characters that not every protocol carries
	NameTooLong          // for the rulebook's bound
)

// Obstacle tells why the transfer does not carry a file of a name and a size. A rulebook
// that says nothing of the transfer has none but a strange name.
func (t *Transfer) Obstacle(name string, size int64) Obstacle {
	if t == nil {
		if !PlainName(name) {
			return StrangeName
		}
		return NoObstacle
	}
	switch most, _ := t.Carries(); {
	case most > 0 && size > most:
		return TooLarge
	case !PlainName(name):
		return StrangeName
	case t.LongestName > 0 && len(name) > t.LongestName:
		return NameTooLong
	}
	return NoObstacle
}

// PlainName: printable ASCII without blanks goes over every protocol.
func PlainName(name string) bool {
	for _, r := range name {
		if r <= ' ' || r > '~' {
			return false
		}
	}
	return name != ""
}
