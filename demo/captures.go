package demo

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"
)

// console is what a Tramline switch prints, as a terminal program keeps it:
// with carriage returns, and with what the pager wrote and wiped away again.
func console(name, model, board, serial, boot, running, poe string, slots ...string) []byte {
	lines := []string{
		name + "> show system",
		"Tramline OS " + running,
		"",
		"Model       : " + model,
		"Board rev   : " + board,
		"Serial      : " + serial,
		"Boot loader : " + boot,
		"Running     : " + running,
		"PoE firmware: " + poe,
	}
	for i, s := range slots {
		if i == 0 {
			s = "-- more --\r          \r" + s
		}
		lines = append(lines, s)
	}
	return []byte(strings.Join(append(lines, name+"> "), "\r\n"))
}

// eepromDump is the identity EEPROM of a board in the TlvInfo form, as a hex
// dump.
func eepromDump(model, revision, serial string) []byte {
	var entries []byte
	add := func(code byte, value string) {
		entries = append(append(entries, code, byte(len(value))), value...)
	}
	add(0x21, model)
	add(0x23, serial)
	add(0x27, revision)
	add(0x2b, "Quillmere")
	b := append([]byte("TlvInfo\x00\x01"), 0, 0)
	binary.BigEndian.PutUint16(b[9:], uint16(len(entries)+6))
	b = append(append(b, entries...), 0xfe, 4)
	b = binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b))
	var out strings.Builder
	for at := 0; at < len(b); at += 16 {
		row := b[at:min(at+16, len(b))]
		text := strings.Map(func(r rune) rune {
			if r < ' ' || r > '~' {
				return '.'
			}
			return r
		}, string(row))
		fmt.Fprintf(&out, "%04x: %-47s  %s\n", at, fmt.Sprintf("% x", row), text)
	}
	return []byte(out.String())
}

// gatewayInventory is what a management system says of the gateways: the
// state of ietf-hardware as JSON.
const gatewayInventory = `{
  "ietf-hardware:hardware": {
    "component": [
      {
        "name": "gw-1",
        "class": "iana-hardware:chassis",
        "mfg-name": "Velloway",
        "model-name": "VG-20",
        "parent-rel-pos": 1,
        "hardware-rev": "r1",
        "software-rev": "5.0.2",
        "serial-num": "GW-1107"
      },
      {
        "name": "gw-2",
        "class": "iana-hardware:chassis",
        "model-name": "VG-20",
        "hardware-rev": "r2",
        "software-rev": "5.0.2",
        "serial-num": "GW-1131"
      }
    ]
  }
}
`
