package device

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"
	"unicode"

	"fitcheck/core/fact"
)

// Identity EEPROMs in the TlvInfo form: a header of 11 bytes (the text
// "TlvInfo" with its NUL, version 1, and the length of what follows as 16 bits
// big-endian), then entries of type (1 byte), length (1 byte) and value. The
// last entry, 0xFE, is the CRC-32 (IEEE 802.3) over all bytes before its
// value. Source: the Open Compute Project's hardware design requirements for
// bare-metal switches, "board EEPROM information format".

var tlvMagic = []byte("TlvInfo\x00")

const (
	tlvHeader = 11
	tlvMax    = 2048 // bytes of the whole, by the format
)

// tlvNames are the standard codes.
var tlvNames = map[byte]string{
	0x21: "product name", 0x22: "part number", 0x23: "serial number", 0x24: "base MAC address", 0x25: "manufacture date", 0x26: "device version",
	0x27: "label revision", 0x28: "platform name", 0x29: "install environment version", 0x2a: "number of MAC addresses", 0x2b: "manufacturer",
	0x2c: "country code", 0x2d: "vendor name", 0x2e: "diagnostics version", 0x2f: "service tag", 0xfd: "vendor extension", 0xfe: "CRC-32",
}

// tlvKeys are the codes that stand for a value of a device file. The device
// version and the label revision are both used for the hardware revision.
var tlvKeys = map[byte]string{0x21: "model", 0x23: "serial", 0x26: "revision", 0x27: "revision", 0x28: "boards"}

func init() {
	registerForm(form{rank: 20, read: func(in *input) (*Reading, bool, error) {
		if !bytes.HasPrefix(in.data, tlvMagic) {
			return nil, false, nil
		}
		r, err := readTLV(in.file, in.data, func(n, size int) fact.Source {
			return fact.Source{Kind: fact.Capture, File: in.file, Offset: int64(n), Size: int64(size)}
		})
		return r, true, err
	}})
	registerForm(form{rank: 90, read: func(in *input) (*Reading, bool, error) {
		dump, at := hexDump(in.screen())
		if !bytes.HasPrefix(dump, tlvMagic) {
			return nil, false, nil
		}
		r, err := readTLV(in.file, dump, func(n, _ int) fact.Source { return lineOf(in.file, at[min(n, len(at)-1)]) })
		if err == nil {
			r.Form += ", as a hex dump"
		}
		return r, true, err
	}})
}

// readTLV reads an identity EEPROM; data begins with its header. at tells where
// bytes stand, for citing: in the file, or in the line of a dump.
func readTLV(file string, data []byte, at func(offset, size int) fact.Source) (*Reading, error) {
	r := &Reading{File: file, Form: "identity EEPROM (TlvInfo)"}
	bad := func(offset int, format string, args ...any) error {
		return fmt.Errorf("%s: %s; read the EEPROM again", at(offset, 1), fmt.Sprintf(format, args...))
	}
	if len(data) < tlvHeader {
		return nil, bad(0, "the header of the EEPROM is cut off: %d of %d bytes are there", len(data), tlvHeader)
	}
	if data[8] != 1 {
		return nil, bad(8, "the EEPROM is of format version %d; version 1 is read", data[8])
	}
	length := int(binary.BigEndian.Uint16(data[9:]))
	end := tlvHeader + length
	switch {
	case end > tlvMax:
		return nil, bad(9, "the EEPROM says it has %d bytes, and the format allows %d", end, tlvMax)
	case end > len(data):
		return nil, bad(9, "the EEPROM says that %d bytes follow the header, and %d do", length, len(data)-tlvHeader)
	}
	crc := false
	for pos := tlvHeader; pos < end; {
		if pos+2 > end {
			return nil, bad(pos, "an entry is cut off by the end of the EEPROM")
		}
		code, size := data[pos], int(data[pos+1])
		if pos+2+size > end {
			return nil, bad(pos, "the entry 0x%02x has %d bytes, and only %d are left", code, size, end-pos-2)
		}
		value := data[pos+2 : pos+2+size]
		if code == 0xfe {
			if size != 4 {
				return nil, bad(pos, "the CRC-32 has %d bytes in place of 4", size)
			}
			if pos+2+size != end {
				return nil, bad(pos, "%d bytes stand behind the CRC-32, which must be the last entry", end-pos-2-size)
			}
			want, got := binary.BigEndian.Uint32(value), crc32.ChecksumIEEE(data[:pos+2])
			if want != got {
				return nil, bad(pos, "the CRC-32 does not hold: it should be %08x, and the content gives %08x", want, got)
			}
			crc = true
			break
		}
		r.tlv(code, value, at(pos, 2+size))
		pos += 2 + size
	}
	if !crc {
		return nil, bad(end, "the EEPROM has no CRC-32, so that nothing shows it is whole")
	}
	r.note("the CRC-32 holds")
	return r, nil
}

// tlv takes one entry.
func (r *Reading) tlv(code byte, value []byte, where fact.Source) {
	name, known := tlvNames[code]
	if !known {
		r.note("%s: entry 0x%02x, which the format does not define: %s", where, code, tlvText(value))
		return
	}
	text := tlvText(value)
	switch code {
	case 0x24:
		text = hexBytes(value, ":")
	case 0x26:
		if len(value) == 1 {
			text = fmt.Sprint(value[0])
		}
	case 0x2a:
		if len(value) == 2 {
			text = fmt.Sprint(binary.BigEndian.Uint16(value))
		}
	case 0xfd:
		text = hexBytes(value, " ")
		if len(value) >= 4 { // an IANA enterprise number leads it
			text = fmt.Sprintf("enterprise %d: %s", binary.BigEndian.Uint32(value), hexBytes(value[4:], " "))
		}
	}
	key, ok := tlvKeys[code]
	if !ok || strings.TrimSpace(text) == "" {
		r.note("%s: %s: %s", where, name, text)
		return
	}
	v := r.add("", key, text, where)
	if key == "revision" { // two entries are in use for it
		v.Guess, v.Open = true, true
	}
}

// tlvText is the text of a value, or its bytes where it is none.
func tlvText(value []byte) string {
	text := string(bytes.TrimRight(value, "\x00 "))
	if strings.ContainsFunc(text, func(c rune) bool { return c == unicode.ReplacementChar || !unicode.IsPrint(c) }) {
		return hexBytes(value, " ")
	}
	return text
}

func hexBytes(b []byte, sep string) string {
	parts := make([]string, len(b))
	for i, c := range b {
		parts[i] = fmt.Sprintf("%02x", c)
	}
	return strings.Join(parts, sep)
}
