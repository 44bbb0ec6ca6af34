package format_test

import (
	"crypto/sha256"
	"encoding/hex"
	"testing"

	"fitcheck/core/fact"
)

// rpmTag is one entry of a header: a text, or a number where it has none.
type rpmTag struct {
	tag    uint32
	text   string
	number uint32
}

// rpmBlock encodes a header (Linux Standard Base 5.0, Core, section 22.2.2): an index of entries
// with tag, type, offset and count, and the store that they point into.
func rpmBlock(tags ...rpmTag) []byte {
	var index, store []byte
	for _, t := range tags {
		kind := uint32(6) // a text
		if t.text == "" {
			kind = 4 // 32 bits
			for len(store)%4 != 0 {
				store = append(store, 0)
			}
		}
		for _, v := range []uint32{t.tag, kind, uint32(len(store)), 1} {
			index = be.AppendUint32(index, v)
		}
		if t.text == "" {
			store = be.AppendUint32(store, t.number)
		} else {
			store = append(append(store, t.text...), 0)
		}
	}
	out := []byte("\x8e\xad\xe8\x01\x00\x00\x00\x00")
	out = be.AppendUint32(out, uint32(len(tags)))
	out = be.AppendUint32(out, uint32(len(store)))
	return append(append(out, index...), store...)
}

// rpmPackage encodes a package: lead, signature header, header, payload.
func rpmPackage() []byte {
	lead := make([]byte, 96)
	copy(lead, "\xed\xab\xee\xdb\x03\x00")
	payload := []byte("a payload that is no archive")
	sum := func(b []byte) string {
		s := sha256.Sum256(b)
		return hex.EncodeToString(s[:])
	}
	header := rpmBlock(rpmTag{tag: 1000, text: "tram-firmware"}, rpmTag{tag: 1001, text: "8.4.2"}, rpmTag{tag: 1002, text: "1"}, rpmTag{tag: 1022, text: "aarch64"},
		rpmTag{tag: 1006, number: 0x6ab13b80}, rpmTag{tag: 5092, text: sum(payload)}, rpmTag{tag: 5093, number: 8})
	signature := rpmBlock(rpmTag{tag: 273, text: sum(header)})
	for len(signature)%8 != 0 {
		signature = append(signature, 0)
	}
	return append(append(append(lead, signature...), header...), payload...)
}

func init() {
	further = append(further, sample{name: "rpm", kind: "rpm", data: rpmPackage(), sums: 2,
		facts:   map[fact.Name]string{fact.Title: "tram-firmware", fact.Version: "8.4.2-1", fact.Arch: "arm64", fact.Built: "2026-09-21T14:13:20Z"},
		patches: []patch{{"entries of the header", 96 + 8, "\xff\xff\xff\xff", ""}, {"store of the header", 96 + 12, "\xff\xff\xff\xff", ""}}})
}

func FuzzRPM(f *testing.F) { fuzz(f, "rpm") }
