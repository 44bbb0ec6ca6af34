// Package guid writes globally unique identifiers as people read them.
package guid

import (
	"encoding/binary"
	"fmt"
)

// Text writes the GUID of UEFI or GPT in the first 16 bytes of b: three little-endian
// numbers, then bytes (UEFI Specification 2.10, appendix A).
func Text(b []byte) string {
	le := binary.LittleEndian
	return fmt.Sprintf("%08x-%04x-%04x-%x-%x", le.Uint32(b), le.Uint16(b[4:]), le.Uint16(b[6:]), b[8:10], b[10:16])
}

// UUID writes the UUID in the first 16 bytes of b, whose bytes stand in their order (RFC 9562).
func UUID(b []byte) string {
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:16])
}
