package device

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"fitcheck/core/fact"
)

// What a device file says of where a value was read is the source that was written there.
func TestReadFromComesBack(t *testing.T) {
	for _, s := range []fact.Source{
		lineOf("cab07.txt", 5), lineOf("C:\\captures\\cab 07.txt", 12), lineOf("a:7", 5), lineOf("x at 0x1, 2 bytes", 3),
		{Kind: fact.Capture, File: "eeprom.bin", Offset: 0x1f, Size: 18}, {Kind: fact.Capture, File: "eeprom.bin", Offset: 0, Size: 1},
		{Kind: fact.Capture, File: "label on the box"}, {Kind: fact.Capture, File: "cab.txt:0"}, {Kind: fact.Capture, File: "eeprom.bin at 0x1f, many bytes"},
		byHand("model=QM-8T:24"), {Kind: fact.DeviceFile, File: Planned + " 8.4.2 of line 3:4"},
	} {
		for _, mark := range []string{"", GuessMark} {
			got, guess := ReadFrom(s.Where() + mark)
			assert.Equal(t, s, got, s.Where())
			assert.Equal(t, mark != "", guess, s.Where())
		}
	}
}
