package format_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"testing"

	"fitcheck/core/image"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fieldsOf lists, for each sample, what its header has to say where: name,
// offset, value as it is shown. The samples are written from the published
// definitions, apart from what reads them.
var fieldsOf = map[string][]struct {
	name  string
	at    int64
	value string
}{
	"uimage": {{"magic", 0, "0x27051956"}, {"time", 8, "0x6ab13b80"}, {"size", 12, "77"}, {"load", 16, "0x00008000"}, {"entry", 20, "0x00008040"}, {"os", 28, "5"}, {"arch", 29, "2"},
		{"type", 30, "2"}, {"compression", 31, "1"}, {"name", 32, "QM-8T 8.4.2"}},
	"dtb 17": {{"magic", 0, "0xd00dfeed"}, {"totalsize", 4, "161"}, {"off_dt_struct", 8, "0x00000038"}, {"version", 20, "17"}, {"last_comp_version", 24, "16"}, {"size_dt_struct", 36, "88"},
		{"/model", 76, "Quillmere QM-8T"}, {"/compatible", 104, "quillmere,qm8t-a, quillmere,soc"}},
	"dtb 16": {{"version", 20, "16"}, {"size_dt_strings", 32, "11"}, {"/compatible", 76, "a,b"}},
	"fit": {{"/description", 76, "VR-310 4.2.0"}, {"/timestamp", 104, "0x6ab13b80"}, {"/images/kernel-1/type", 192, "kernel"}, {"/images/kernel-1/arch", 212, "arm64"},
		{"/images/kernel-1/hash-1/value", 304, "0x68a517c5"}, {"/configurations/conf-1/fdt", 2156, "fdt-1"}, {"/configurations/conf-2/compatible", 2216, "velloway,vr310-v1"}},
	"fit, payloads behind": {{"/images/kernel-2/data-offset", 824, "0x00000020"}, {"/images/kernel-2/data-size", 840, "0x0000000e"}},
	"trx 1":                {{"length", 4, "4200"}, {"version", 14, "1"}, {"offset[0]", 16, "0x0000001c"}, {"offset[1]", 20, "0x00000068"}, {"offset[2]", 24, "0x00000000"}},
	"trx 2":                {{"version", 14, "2"}, {"offset[3]", 28, "0x0000002b"}},
	"zimage":               {{"magic", 36, "0x016f2818"}, {"start", 40, "0x00008000"}, {"end", 44, "0x0000808d"}},
	"arm64 image":          {{"image_size", 16, "4096"}, {"magic", 56, "ARMd"}, {"linux_banner", 100, "Linux version 6.1.7-tram (builder@brackwater) #1"}},
	"riscv image":          {{"version", 32, "0x00000002"}, {"magic", 48, "RISCV"}},
	"bzimage":              {{"setup_sects", 497, "1"}, {"version", 518, "0x020f"}, {"version_text", 768, "6.1.7-tram (builder@brackwater) #1"}, {"payload_length", 588, "124"}},
	"elf 32 little":        {{"class", 4, "1"}, {"data", 5, "1"}, {"machine", 18, "40"}, {"entry", 24, "0x00001000"}, {"phoff", 28, "0x00000034"}},
	"elf 64 big":           {{"class", 4, "2"}, {"data", 5, "2"}, {"machine", 18, "21"}, {"entry", 24, "0x0000000000001000"}, {"phoff", 32, "0x0000000000000040"}, {"build_id", 136, "000102030405060708090a0b0c0d0e0f10111213"}},
	"pe":                   {{"pe_offset", 60, "0x00000080"}, {"machine", 132, "43620"}, {"optional_magic", 152, "523"}, {"subsystem", 220, "10"}, {"section[0]", 392, ".text"}},
	"capsule": {{"guid", 0, "6dcbd5ed-e82d-4c44-bda1-7194199ad92a"}, {"header_size", 16, "28"}, {"flags", 20, "0x00010000"}, {"image_size", 24, "127"}, {"item[0].class", 48, "0a1b2c3d-4e5f-6071-8293-a4b5c6d7e8f9"},
		{"item[0].index", 64, "1"}, {"item[0].hardware_instance", 76, "0x0000000000000007"}, {"item[0].firmware_version", 100, "0x00080402"}},
	"pldm 1": {{"identifier", 0, "f018878c-cb7d-4943-9800-a02f059aca02"}, {"header_size", 17, "102"}, {"release_time", 19, "2026-09-30T04:15:00Z"}, {"version", 36, "8.4.2"},
		{"device[0].descriptor[0]", 57, "pci-vendor=0x1af4"}, {"device[0].descriptor[1]", 63, "pci-device=0x1000"}, {"component[0].classification", 71, "10"}},
	"pldm 2":     {{"downstream_records", 69, "0"}, {"component[0].identifier", 74, "1"}},
	"pldm 3":     {{"format_revision", 16, "3"}, {"component[0].classification", 72, "10"}},
	"pldm 4":     {{"device[0].manifest_length", 53, "0"}, {"device[0].version", 58, "8.4"}, {"component[0].identifier", 78, "1"}},
	"dfu":        {{"device_release", 27, "0x0002"}, {"product", 29, "0x70b1"}, {"vendor", 31, "0x1209"}, {"dfu_version", 33, "0x0100"}, {"length", 38, "16"}},
	"ihex":       {{"addresses", 0, "0x08000000 to 0x0800004f"}},
	"srec":       {{"header", 0, "QM-8T boot"}, {"addresses", 0, "0x08000000 to 0x0800004f"}},
	"uf2":        {{"address", 12, "0x10000000"}, {"payload_size", 16, "256"}, {"blocks", 24, "3"}, {"family", 28, "0xe48bff56"}},
	"squashfs 4": {{"inodes", 4, "3"}, {"block_size", 12, "131072"}, {"compression", 20, "4"}, {"major", 28, "4"}, {"bytes_used", 40, "300"}},
	"squashfs 3": {{"major", 28, "3"}, {"block_log", 34, "16"}, {"block_size", 51, "65536"}, {"bytes_used", 63, "300"}},
	"cramfs big": {{"size", 4, "4096"}, {"files", 44, "1"}, {"name", 48, "tram"}},
	"romfs":      {{"size", 8, "1024"}, {"name", 16, "tram"}},
	"jffs2 big":  {{"node_type", 2, "57345"}, {"length", 4, "44"}},
	"ubi":        {{"erase_counter", 8, "3"}, {"volume_header", 16, "64"}, {"data", 20, "128"}, {"image", 24, "0x0000004d"}, {"block_size", 0, "4096"}, {"volume[0]", 4224, "rootfs"}},
	"ubifs":      {{"length", 16, "4096"}, {"node_type", 20, "6"}, {"blocks", 40, "2"}, {"compression", 84, "1"}},
	"ext4":       {{"blocks", 1028, "64"}, {"state", 1082, "1"}, {"written", 1072, "0x6ab13b80"}, {"name", 1144, "tram"}},
	"erofs":      {{"blocks", 1060, "4"}, {"log_block_size", 1036, "12"}, {"name", 1088, "tram"}},
	"fat":        {{"sector_size", 11, "512"}, {"sectors", 19, "5000"}, {"name", 43, "TRAM"}},
	"iso":        {{"volume", 32808, "TRAM"}, {"blocks", 32848, "18"}, {"block_size", 32896, "2048"}},
	"mbr":        {{"partition[0].type", 450, "131"}, {"partition[0].first", 454, "8"}, {"partition[0].blocks", 458, "32"}, {"partition[0].active", 446, "0x80"}},
	"gpt":        {{"block", 536, "1"}, {"other_block", 544, "127"}, {"header_size", 524, "92"}},
	"gzip":       {{"name", 10, "tram.img"}},
}

func TestFields(t *testing.T) {
	seen := 0
	for _, s := range samples() {
		_, m := kindOf(t, s.data)
		for _, f := range m.Fields {
			if len(f.Raw) > 0 {
				require.LessOrEqual(t, f.Offset+int64(len(f.Raw)), int64(len(s.data)), "%s: %s", s.name, f.Name)
				assert.True(t, bytes.Equal(f.Raw, s.data[f.Offset:f.Offset+int64(len(f.Raw))]), "%s: the raw bytes of %s are those at its offset", s.name, f.Name)
			}
		}
		want, ok := fieldsOf[s.name]
		if !ok {
			continue
		}
		seen++
		for _, w := range want {
			found := false
			for _, f := range m.Fields {
				if f.Name == w.name {
					found = true
					assert.Equal(t, w.at, f.Offset, "%s: %s", s.name, w.name)
					assert.Equal(t, w.value, f.Value, "%s: %s", s.name, w.name)
				}
			}
			assert.True(t, found, "%s: %s", s.name, w.name)
		}
	}
	assert.Equal(t, len(fieldsOf), seen, "every list belongs to a sample")
}

// Devices behind the device have records of their own (DSP0267, from revision
// 1.1 on), which are passed over by their lengths.
func TestPLDMDownstream(t *testing.T) {
	base := pldm(2)
	at := int64(0)
	_, m := kindOf(t, base)
	for _, f := range m.Fields {
		if f.Name == "downstream_records" {
			at = f.Offset
		}
	}
	require.NotZero(t, at)
	build := func(length, size int) []byte {
		record := make([]byte, size)
		le.PutUint16(record, uint16(length))
		b := append(blob(bytes.Clone(base[:at])), 1)
		b = append(append(b, record...), base[at+1:]...)
		header := int(le.Uint16(b[17:])) + size
		b.le16(17, header)
		comp := int(at) + 1 + size + 2
		b.le32(comp+12, header)
		return b.le32(header-4, int(crc32.ChecksumIEEE(b[:header-4])))
	}
	kind, m := kindOf(t, build(20, 20))
	require.Equal(t, "pldm", kind)
	assert.Empty(t, m.Damaged())
	require.Len(t, m.Parts, 1, "what follows the records is found")
	assert.Equal(t, "component 1 8.4.2", m.Parts[0].Name)
	for _, length := range []int{0, 1, 60_000} {
		_, m := kindOf(t, build(length, 20))
		assert.NotEmpty(t, m.Damaged(), "a record of %d bytes", length)
	}
}

// A build id that only a section names, in an object without segments.
func TestELFSections(t *testing.T) {
	for _, order := range []binary.ByteOrder{le, be} {
		e := elf(64, order, 183)
		const note = 64 + 56
		h := make([]byte, 64)
		order.PutUint32(h[4:], 7)
		order.PutUint64(h[24:], note)
		order.PutUint64(h[32:], 36)
		data := append(bytes.Clone(e), h...)
		order.PutUint64(data[40:], uint64(len(e)))
		order.PutUint16(data[56:], 0) // no segments
		order.PutUint16(data[58:], 64)
		order.PutUint16(data[60:], 1)
		kind, m := kindOf(t, data)
		require.Equal(t, "elf", kind)
		assert.Empty(t, m.Damaged())
		assert.Equal(t, "000102030405060708090a0b0c0d0e0f10111213", factText(m, image.BuildID))
		_, m = kindOf(t, data[:len(data)-1])
		assert.NotEmpty(t, m.Damaged(), "section headers cut off")
	}
}
