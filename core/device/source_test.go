package device

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/demo"
)

// said lists values as "member/key=text @where", guesses with a question mark.
func said(r *Reading) []string {
	var out []string
	for _, v := range r.Values {
		t := fmt.Sprintf("%s=%s @%s", label2(v.Member, v.Key), v.Text, v.At)
		if v.Guess {
			t += " ?"
		}
		out = append(out, t)
	}
	return out
}

func label2(member, key string) string {
	if member == "" {
		return key
	}
	return member + "/" + key
}

var tramline = CaptureRule{
	Name: "rules.yaml:3", Recognise: regexp.MustCompile(`^Tramline OS`),
	Read: []KeyPattern{{"model", regexp.MustCompile(`^Model\s*:\s*(\S+)`)}, {"installed.main", regexp.MustCompile(`^Running\s*:\s*(\S+)`)}, {"storage_free", regexp.MustCompile(`^Free\s*:\s*(.+)`)},
		{"job.state", regexp.MustCompile(`^job: (\w+)`)}, {"job.percent", regexp.MustCompile(`^job: \w+ (\d+%)`)}, {"start.saved", regexp.MustCompile(`^choice saved: (\w+)`)}},
	Each: []KeyPattern{{"slots", regexp.MustCompile(`^Slot (?P<name>[AB])\s+(?P<main>\S+)(?P<active>\s+\*)?`)}, {"attached", regexp.MustCompile(`^Port \d+ (\S+)`)}, {"faults", regexp.MustCompile(`^alarm: (?P<text>.+)`)},
		{"slots", regexp.MustCompile(`^Bank (?P<name>[AB])(?: loader (?P<loader>\S+))? system (?P<system>\S+)(?: (?P<active>run)| (?P<next>next))?`)}, {"files", regexp.MustCompile(`^file (?P<file>\S+) (?P<version>\S+) (?P<size>\d+ bytes)(?P<next> \*)?`)},
		{"members", regexp.MustCompile(`^Unit (?P<name>\d+)\s+(?P<model>\S+)\s+(?P<revision>\S+)\s+(?P<main>\S+)`)}},
}

func TestReadCapture(t *testing.T) {
	cases := map[string]struct {
		text string
		want []string
	}{
		"plain": {"Tramline OS\nModel : QM-8T\nRunning: 8.2.1\n", []string{"model=QM-8T @c.txt:2", "installed.main=8.2.1 @c.txt:3"}},
		"carriage returns, a pager that is wiped away, colours": {"Tramline OS\r\n--More--\r        \rModel : \x1b[1mQM-8T\x1b[0m\r\n-- more --\b\b\b\b\b\b\b\b\b\b\x1b[KRunning: 8.2.1\r\n",
			[]string{"model=QM-8T @c.txt:2", "installed.main=8.2.1 @c.txt:3"}},
		"a pager that stays":                 {"Tramline OS\n--More-- Model : QM-8T\n", []string{"model=QM-8T @c.txt:2"}},
		"typed over and corrected":           {"Tramline OS\nModel : QM-9T\b\b8T\n", []string{"model=QM-8T @c.txt:2"}},
		"stamps of a terminal program":       {"[2026-11-20 21:04:11] Tramline OS\n[2026-11-20 21:04:12] Model : QM-8T\n", []string{"model=QM-8T @c.txt:2"}},
		"of a log server":                    {"<189>1 2026-11-27T02:14:07.1Z cab-07 console - - - Tramline OS\n<189>1 2026-11-27T02:14:08.1Z cab-07 console - - [x@1 a=\"b\"] Model : QM-8T\n", []string{"model=QM-8T @c.txt:2"}},
		"of an old log server":               {"Nov 27 02:14:07 cab-07 console[12]: Tramline OS\nNov 27 02:14:07 cab-07 console: Model : QM-8T\n", []string{"model=QM-8T @c.txt:2"}},
		"a log among other lines":            {"Tramline OS\nNov 27 02:14:07 cab-07 console: Model : QM-9T\nModel : QM-8T\nRunning: 8.2.1\n", []string{"model=QM-8T @c.txt:3", "installed.main=8.2.1 @c.txt:4"}},
		"a title string is no text":          {"\x1b]0;cab07\x07Tramline OS\nModel : QM-8T", []string{"model=QM-8T @c.txt:2"}},
		"what starts next, in any component": {"Tramline OS\nBank A loader 7.2.0 system 7.2.0 run\nBank B system 7.3.1 next\n", []string{"slots.A.name=A @c.txt:2", "slots.A.loader=7.2.0 @c.txt:2", "slots.A.system=7.2.0 @c.txt:2", "slots.A.active=true @c.txt:2", "slots.B.name=B @c.txt:3", "slots.B.system=7.3.1 @c.txt:3", "slots.B.next=true @c.txt:3"}},
		"files, a job and faults":            {"Tramline OS\nfile sys-7.bin 7.2.0 7113 bytes *\njob: running 22%\nchoice saved: yes\nalarm: fan 2 slow\nalarm: no uplink\n", []string{"files.sys-7.bin.file=sys-7.bin @c.txt:2", "files.sys-7.bin.version=7.2.0 @c.txt:2", "files.sys-7.bin.size=7113 @c.txt:2", "files.sys-7.bin.next=true @c.txt:2", "job.state=running @c.txt:3", "job.percent=22 @c.txt:3", "start.saved=true @c.txt:4", "faults=fan 2 slow @c.txt:5", "faults=no uplink @c.txt:6"}},
		"slots and what is attached":         {"Tramline OS\nSlot A 8.2.1 *\nSlot B 7.9.1\nPort 1 VR-310\nPort 2 VR-320\n", []string{"slots.A.name=A @c.txt:2", "slots.A.main=8.2.1 @c.txt:2", "slots.A.active=true @c.txt:2", "slots.B.name=B @c.txt:3", "slots.B.main=7.9.1 @c.txt:3", "attached=VR-310 @c.txt:4", "attached=VR-320 @c.txt:5"}},
		"a size as consoles print it":        {"Tramline OS\nFree: 215,040K bytes\n", []string{"storage_free=215040KiB @c.txt:2"}},
		"members of a stack":                 {"Tramline OS\nUnit 1 QM-8T A2 8.2.1\nUnit 2 QM-24T A1 8.0.3\n", []string{"1/name=1 @c.txt:2", "1/model=QM-8T @c.txt:2", "1/revision=A2 @c.txt:2", "1/installed.main=8.2.1 @c.txt:2", "2/name=2 @c.txt:3", "2/model=QM-24T @c.txt:3", "2/revision=A1 @c.txt:3", "2/installed.main=8.0.3 @c.txt:3"}},
		"no rulebook knows it: guesses":      {"Welcome\nModel name ..... QM-8T\nSW rev: x\nSoftware version: 8.2.1, build of May\nMemory = 256 MB\nArchitecture: bananas\n", []string{"model=QM-8T @c.txt:2 ?", "installed.main=8.2.1 @c.txt:4 ?", "memory=256MiB @c.txt:5 ?"}},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			r, err := ReadSource("c.txt", []byte(c.text), []CaptureRule{tramline})
			require.NoError(t, err)
			assert.Equal(t, c.want, said(r))
		})
	}
	member := tramline
	member.Member, member.Each = regexp.MustCompile(`^== unit (\S+)`), nil
	r, err := ReadSource("c.txt", []byte("Tramline OS\n== unit one\nModel : QM-8T\n== unit two\nModel : QM-24T\n"), []CaptureRule{member})
	require.NoError(t, err)
	assert.Equal(t, []string{"one/name=one @c.txt:2", "one/model=QM-8T @c.txt:3", "two/name=two @c.txt:4", "two/model=QM-24T @c.txt:5"}, said(r))

	r, err = ReadSource("c.txt", []byte("Tramline OS\nFree: lots\nModel : QM-8T\n"), []CaptureRule{tramline})
	require.NoError(t, err)
	assert.Contains(t, r.Notes[0], `c.txt:2: "lots" is not a size`, "what cannot be read is told")
}

func TestCheckCaptureRule(t *testing.T) {
	bad := CaptureRule{Recognise: regexp.MustCompile("x"), Member: regexp.MustCompile("^unit"),
		Read: []KeyPattern{{"modell", regexp.MustCompile("(x)")}, {"model", regexp.MustCompile("x")}},
		Each: []KeyPattern{{"ports", regexp.MustCompile("(x)")}, {"slots", regexp.MustCompile("(?P<slot>x)")}, {"members", regexp.MustCompile("(?P<model>x)")}, {"boards", regexp.MustCompile("x")}, {"members", regexp.MustCompile("(?P<member>x)(?P<modell>x)")}}}
	var got []string
	bad.Check(func(key, message string) { got = append(got, key+": "+message) })
	all := strings.Join(got, "\n")
	for _, want := range []string{`modell: "modell" is not a key`, "model: the pattern has no group", `ports: "ports" is no list`, "slots: the pattern needs the group name", "members: the pattern needs the group name", "boards: the pattern has no groups", "member: the pattern has no group", `members: the group "modell": "modell" is not a key`} {
		assert.Contains(t, all, want)
	}
	tramline.Check(func(key, message string) { t.Errorf("%s: %s", key, message) })
}

// eeprom builds an identity EEPROM with a right CRC.
func eeprom(entries ...string) []byte {
	var body []byte
	for _, e := range entries {
		b, _ := hex.DecodeString(e[:2])
		body = append(append(append(body, b...), byte(len(e)-2)), e[2:]...)
	}
	out := append([]byte("TlvInfo\x00\x01"), 0, 0)
	binary.BigEndian.PutUint16(out[9:], uint16(len(body)+6))
	out = append(append(out, body...), 0xfe, 4)
	return binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(out))
}

func TestReadEEPROM(t *testing.T) {
	good := eeprom("21QM-8T", "230417-221", "26\x02", "27B1", "28arm64-quillmere_qm8t-r0", "2bQuillmere", "24\x00\x01\x02\x03\x04\x05", "2a\x00\x08", "fd\x00\x00\x12\x34x", "77?")
	r, err := ReadSource("e.bin", good, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"model=QM-8T @e.bin at 0xb, 7 bytes", "serial=0417-221 @e.bin at 0x12, 10 bytes", "revision=2 @e.bin at 0x1c, 3 bytes ?", "revision=B1 @e.bin at 0x1f, 4 bytes ?", "boards=arm64-quillmere_qm8t-r0 @e.bin at 0x23, 25 bytes"}, said(r))
	notes := strings.Join(r.Notes, "\n")
	for _, want := range []string{"manufacturer: Quillmere", "base MAC address: 00:01:02:03:04:05", "number of MAC addresses: 8", "enterprise 4660", "0x77, which the format does not define", "the CRC-32 holds"} {
		assert.Contains(t, notes, want)
	}

	var dump strings.Builder
	for at := 0; at < len(good); at += 16 {
		row := good[at:min(at+16, len(good))]
		fmt.Fprintf(&dump, "%08x  %-47s |%s|\n", at, fmt.Sprintf("% x", row), "...")
	}
	r, err = ReadSource("e.txt", []byte("cab> dump eeprom\n"+dump.String()+"cab> "), nil)
	require.NoError(t, err)
	assert.Equal(t, "model=QM-8T @e.txt:2", said(r)[0], "a dump cites its lines")

	for name, c := range map[string]struct {
		spoil func(b []byte) []byte
		want  string
	}{
		"a flipped bit":       {func(b []byte) []byte { b[14] ^= 1; return b }, "the CRC-32 does not hold"},
		"a flipped sum":       {func(b []byte) []byte { b[len(b)-1] ^= 1; return b }, "the CRC-32 does not hold"},
		"cut off":             {func(b []byte) []byte { return b[:len(b)-9] }, "bytes follow the header"},
		"cut in the header":   {func(b []byte) []byte { return b[:10] }, "the header of the EEPROM is cut off"},
		"another version":     {func(b []byte) []byte { b[8] = 2; return b }, "format version 2"},
		"a length too long":   {func(b []byte) []byte { b[9] = 0xff; return b }, "the format allows 2048"},
		"an entry too long":   {func(b []byte) []byte { b[12] = 0xff; return b }, "0x21 has 255 bytes"},
		"no sum at all":       {func(b []byte) []byte { b[10] -= 6; return b[:len(b)-6] }, "has no CRC-32"},
		"bytes after the sum": {func(b []byte) []byte { b[10]++; return append(b, 0) }, "behind the CRC-32"},
	} {
		_, err := ReadSource("e.bin", c.spoil([]byte(string(good))), nil)
		assert.ErrorContains(t, err, c.want, name)
		assert.ErrorContains(t, err, "e.bin at 0x", name)
	}
}

func TestReadDeviceTree(t *testing.T) {
	blob := demo.Tree(17, demo.Node{Props: []demo.Prop{{Name: "model", Value: "Quillmere QM-8T"}, {Name: "compatible", Value: []string{"quillmere,qm8t-a", "quillmere,qm"}}, {Name: "serial-number", Value: "0417-221"}}})
	r, err := ReadSource("t.dtb", blob, nil)
	require.NoError(t, err)
	got := strings.Join(said(r), "\n")
	assert.Regexp(t, `model=Quillmere QM-8T @t.dtb at 0x\w+, 16 bytes \?`, got, "words, until a rulebook knows them")
	assert.Regexp(t, `boards=quillmere,qm8t-a @t.dtb at 0x\w+, 16 bytes(\n|$)`, got)
	assert.Contains(t, got, "serial=0417-221")
	assert.NotContains(t, got, "boards=quillmere,qm @", "the chip names no board")
	_, err = ReadSource("t.dtb", blob[:90], nil)
	assert.ErrorContains(t, err, "t.dtb: the device tree is damaged")

	dir := t.TempDir()
	for name, text := range map[string]string{"model": "Quillmere QM-8T\x00", "compatible": "quillmere,qm8t-a\x00quillmere,qm\x00", "serial-number": "0417-221\x00", "other": "x"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	r, err = ReadFolder(dir)
	require.NoError(t, err)
	assert.Equal(t, []string{"model=Quillmere QM-8T @" + dir + "/model ?", "boards=quillmere,qm8t-a @" + dir + "/compatible", "serial=0417-221 @" + dir + "/serial-number"}, said(r))
	assert.Equal(t, []string{dir + "/compatible: it is also compatible with quillmere,qm"}, r.Notes)
	_, err = ReadFolder(t.TempDir())
	assert.ErrorContains(t, err, "holds no device tree")

	require.NoError(t, os.WriteFile(filepath.Join(dir, "model"), []byte(strings.Repeat("Q", 64<<10)), 0o644))
	_, err = ReadFolder(dir)
	require.NoError(t, err, "a property of just the bound")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "model"), []byte(strings.Repeat("Q", 64<<10+1)), 0o644))
	_, err = ReadFolder(dir)
	assert.ErrorContains(t, err, "a property of more than 65536 bytes")
}

const hardwareXML = `<?xml version="1.0"?>
<data><hardware xmlns="urn:ietf:params:xml:ns:yang:ietf-hardware">
<component><name>sw</name><class xmlns:ianahw="x">ianahw:chassis</class>
<model-name>QM-8T</model-name><hardware-rev>A2</hardware-rev>
<firmware-rev>3.1.4</firmware-rev><software-rev>8.2.1</software-rev><serial-num>N/A</serial-num></component>
<component><name>psu</name><class>ianahw:power-supply</class><model-name>PS-1</model-name><parent>sw</parent></component>
</hardware></data>`

func TestReadInventory(t *testing.T) {
	cases := map[string]struct {
		file, text string
		group      string
		want       []string
	}{
		"RFC 8348 as XML": {"i.xml", hardwareXML, "", []string{"model=QM-8T @i.xml:4", "revision=A2 @i.xml:4", "installed.main=8.2.1 @i.xml:5", "installed.boot=3.1.4 @i.xml:5 ?"}},
		"RFC 8348 as JSON, a stack": {"i.json", `{"ietf-hardware:hardware": {"component": [
			{"name": "stack", "class": "iana-hardware:stack"},
			{"name": "one", "class": "iana-hardware:chassis", "parent": "stack", "model-name": "QM-8T", "software-rev": "8.2.1"},
			{"name": "two", "class": "iana-hardware:chassis", "parent": "stack", "model-name": "QM-24T", "software-rev": "8.2.1"}]}}`, "stack",
			[]string{"one/name=one @i.json:3", "one/model=QM-8T @i.json:3", "one/installed.main=8.2.1 @i.json:3", "two/name=two @i.json:4", "two/model=QM-24T @i.json:4", "two/installed.main=8.2.1 @i.json:4"}},
		"a module with software of its own": {"i.json", `{"ietf-hardware:hardware": {"component": [
			{"name": "box", "class": "iana-hardware:chassis", "model-name": "QM-X", "serial-num": "1", "software-rev": "8.2.1"},
			{"name": "base", "class": "iana-hardware:module", "parent": "box", "model-name": "QM-X", "serial-num": "1", "software-rev": "8.2.1"},
			{"name": "radio", "class": "iana-hardware:module", "parent": "box", "model-name": "QM-R", "serial-num": "2", "firmware-rev": "4.1"}]}}`, "chassis",
			[]string{"box/name=box @i.json:2", "box/model=QM-X @i.json:2", "box/serial=1 @i.json:2", "box/installed.main=8.2.1 @i.json:2", "radio/name=radio @i.json:4", "radio/model=QM-R @i.json:4", "radio/serial=2 @i.json:4", "radio/installed.main=4.1 @i.json:4 ?"}},
		"RFC 7317": {"s.json", `{"ietf-system:system-state": {"platform": {"os-name": "Linux", "os-release": "8.2.1", "machine": "aarch64"}}, "ietf-system:system": {"hostname": "cab07"}}`, "",
			[]string{"arch=arm64 @s.json:1", "installed.main=8.2.1 @s.json:1 ?", "name=cab07 @s.json:1"}},
		"SNMP walk, named": {"w.txt", "SNMPv2-MIB::sysName.0 = STRING: cab07\nENTITY-MIB::entPhysicalClass.1 = INTEGER: chassis(3)\nENTITY-MIB::entPhysicalModelName.1 = STRING: \"QM-8T\"\nENTITY-MIB::entPhysicalHardwareRev.1 = Hex-STRING: 41 32 00\nENTITY-MIB::entPhysicalSoftwareRev.1 = STRING: 8.2.1\nENTITY-MIB::entPhysicalSerialNum.1 = \"\"\n", "",
			[]string{"name=cab07 @w.txt:1", "model=QM-8T @w.txt:3", "revision=A2 @w.txt:4", "installed.main=8.2.1 @w.txt:5"}},
		"SNMP walk, numeric": {"w.txt", ".1.3.6.1.2.1.47.1.1.1.1.5.1 = INTEGER: 11\n.1.3.6.1.2.1.47.1.1.1.1.5.2 = INTEGER: 3\n.1.3.6.1.2.1.47.1.1.1.1.13.2 = STRING: \"QM-8T\"\niso.3.6.1.2.1.47.1.1.1.1.4.2 = INTEGER: 1\n.1.3.6.1.2.1.47.1.1.1.1.7.2 = STRING: \"unit 1\"\n", "stack",
			[]string{"unit 1/name=unit 1 @w.txt:5", "unit 1/model=QM-8T @w.txt:3"}},
		"Redfish": {"r.json", `{"Members": [
			{"@odata.id": "/redfish/v1/Chassis/1", "@odata.type": "#Chassis.v1_20_0.Chassis", "Id": "1", "Model": "VG-20", "SerialNumber": "G1", "Version": "r1"},
			{"@odata.id": "/redfish/v1/UpdateService/FirmwareInventory/BMC", "@odata.type": "#SoftwareInventory.v1_4_0.SoftwareInventory", "Id": "BMC", "Version": "2.1", "RelatedItem": [{"@odata.id": "/redfish/v1/Chassis/1"}]}]}`, "",
			[]string{"model=VG-20 @r.json:2", "serial=G1 @r.json:2", "revision=r1 @r.json:2", "installed.bmc=2.1 @r.json:3"}},
		"Redfish: what is wrong, what is stored, what it is doing": {"r.json", `{"Members": [
			{"@odata.id": "/c/1", "@odata.type": "#Chassis.v1_20_0.Chassis", "Id": "1", "Model": "VG-20", "Status": {"Health": "Warning", "Conditions": [{"Message": "fan 2 slow"}]}},
			{"@odata.type": "#SoftwareInventory.v1_4_0.SoftwareInventory", "Id": "Main", "SoftwareId": "sw", "Version": "2.1", "Status": {"State": "Enabled"}},
			{"@odata.type": "#SoftwareInventory.v1_4_0.SoftwareInventory", "Id": "Spare", "SoftwareId": "sw", "Version": "2.2", "Staged": true},
			{"@odata.type": "#Task.v1_7_0.Task", "Id": "7", "TaskState": "Running", "PercentComplete": 22},
			{"@odata.type": "#Task.v1_7_0.Task", "Id": "8", "TaskState": "Completed", "PercentComplete": 100}]}`, "",
			[]string{"model=VG-20 @r.json:2", "faults=fan 2 slow @r.json:2", "installed.main=2.1 @r.json:3", "files.spare.file=spare @r.json:4", "files.spare.component=main @r.json:4",
				"files.spare.version=2.2 @r.json:4", "files.spare.next=true @r.json:4", "job.state=running @r.json:5", "job.percent=22 @r.json:5"}},
		"Redfish: a task that failed": {"r.json", `{"@odata.type": "#Task.v1_7_0.Task", "Id": "8", "TaskState": "Exception", "Messages": [{"Message": "error 28: no room"}]}`, "",
			[]string{"job.state=failed @r.json:1", "job.reason=error 28: no room @r.json:1"}},
		"RFC 8348, a fault of a member's fan": {"i.json", `{"ietf-hardware:hardware": {"component": [
			{"name": "one", "class": "iana-hardware:chassis", "model-name": "QM-8T", "state": {"oper-state": "enabled", "alarm-state": ""}},
			{"name": "two", "class": "iana-hardware:chassis", "model-name": "QM-24T"},
			{"name": "fan 2", "class": "iana-hardware:fan", "parent": "two", "state": {"oper-state": "disabled", "alarm-state": "minor critical"}}]}}`, "cluster",
			[]string{"one/name=one @i.json:2", "one/model=QM-8T @i.json:2", "two/name=two @i.json:3", "two/model=QM-24T @i.json:3", "two/faults=fan 2: disabled, critical alarm, minor alarm @i.json:4"}},
		"RFC 8348, without names": {"i.json", `{"ietf-hardware:hardware": {"component": [
			{"class": "iana-hardware:chassis", "model-name": "QM-8T", "serial-num": "S1"},
			{"class": "iana-hardware:chassis", "model-name": "QM-24T"},
			{"name": "S1", "class": "iana-hardware:chassis", "model-name": "QM-8T", "serial-num": "S2"}]}}`, "cluster",
			[]string{"S1/name=S1 @i.json:2", "S1/model=QM-8T @i.json:2", "S1/serial=S1 @i.json:2", "2/name=2 @i.json:3", "2/model=QM-24T @i.json:3", "S1 S1/name=S1 S1 @i.json:4", "S1 S1/model=QM-8T @i.json:4", "S1 S1/serial=S2 @i.json:4"}},
		"Redfish, without names, and twice one": {"r.json", `{"Members": [
			{"@odata.id": "/c/1", "@odata.type": "#Chassis.v1_20_0.Chassis", "Model": "VG-20", "SerialNumber": "G1"},
			{"@odata.id": "/c/2", "@odata.type": "#Chassis.v1_20_0.Chassis", "Id": "a", "Model": "VG-20"},
			{"@odata.id": "/c/3", "@odata.type": "#Chassis.v1_20_0.Chassis", "Id": "a", "Model": "VG-20", "SerialNumber": "G3"}]}`, "cluster",
			[]string{"G1/name=G1 @r.json:2", "G1/model=VG-20 @r.json:2", "G1/serial=G1 @r.json:2", "a/name=a @r.json:3", "a/model=VG-20 @r.json:3", "a G3/name=a G3 @r.json:4", "a G3/model=VG-20 @r.json:4", "a G3/serial=G3 @r.json:4"}},
		"RFC 8632": {"a.json", `{"ietf-alarms:alarms": {"alarm-list": {"alarm": [
			{"resource": "port 3", "alarm-type-id": "m:link-down", "is-cleared": false, "alarm-text": "no light"},
			{"resource": "port 4", "alarm-type-id": "m:link-down", "is-cleared": true}]}}}`, "", []string{"faults=port 3: no light @a.json:2"}},
		"RFC 4268 in a walk": {"w.txt", "ENTITY-MIB::entPhysicalClass.1 = INTEGER: chassis(3)\nENTITY-MIB::entPhysicalModelName.1 = STRING: QM-8T\nENTITY-MIB::entPhysicalName.4 = STRING: fan 2\nENTITY-STATE-MIB::entStateOper.4 = INTEGER: disabled(2)\n.1.3.6.1.2.1.131.1.1.1.5.4 = BITS: 28 critical(2) minor(4)\n", "",
			[]string{"model=QM-8T @w.txt:2", "faults=fan 2: disabled, critical alarm, minor alarm @w.txt:4"}},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			r, err := ReadSource(c.file, []byte(c.text), nil)
			require.NoError(t, err)
			assert.Equal(t, c.want, said(r))
			assert.Equal(t, c.group, r.Group)
		})
	}
}

// A capture says the same however it was saved.
func TestEncodedCaptures(t *testing.T) {
	text := "Tramline OS\r\nModel : QM-8T\r\nRunning: 8.2.1\r\n"
	want, err := ReadSource("c.txt", []byte(text), []CaptureRule{tramline})
	require.NoError(t, err)
	require.Len(t, want.Values, 2)
	utf16 := func(order binary.AppendByteOrder, mark bool) []byte {
		var out []byte
		if mark {
			out = order.AppendUint16(out, 0xfeff)
		}
		for _, r := range text {
			out = order.AppendUint16(out, uint16(r))
		}
		return out
	}
	packed := func(data []byte) []byte {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		_, _ = z.Write(data)
		_ = z.Close()
		return b.Bytes()
	}
	for name, data := range map[string][]byte{
		"UTF-8 with a mark": []byte("\ufeff" + text), "UTF-16LE": utf16(binary.LittleEndian, true), "UTF-16BE": utf16(binary.BigEndian, true),
		"UTF-16LE without a mark": utf16(binary.LittleEndian, false), "UTF-16BE without a mark": utf16(binary.BigEndian, false),
		"gzip": packed([]byte(text)), "UTF-16 in gzip": packed(utf16(binary.LittleEndian, true)),
	} {
		r, err := ReadSource("c.txt", data, []CaptureRule{tramline})
		require.NoError(t, err, name)
		assert.Equal(t, said(want), said(r), name)
	}
	whole := packed([]byte(text))
	_, err = ReadSource("c.txt.gz", whole[:len(whole)-6], nil)
	assert.ErrorContains(t, err, "damaged or cut short")
	_, err = ReadSource("c.txt.gz", packed(make([]byte, 17<<20)), nil)
	assert.ErrorContains(t, err, "bound of one text")
}

func TestReadSourceRefuses(t *testing.T) {
	for text, want := range map[string]string{
		"":                      "f: the file is empty",
		"\x7fELF\x00\x01":       "neither text nor",
		"{\"a\": ":              "f:1: it does not read as JSON",
		"{\"a\": 1}":            "holds no inventory that is read",
		"<a><b></a>":            "does not read as XML",
		"[null, {\"a\": null}]": "holds no inventory",
		strings.Repeat(`{"a": `, 90) + `{"ietf-hardware:hardware": {"component": [{"name": "sw", "class": "iana-hardware:chassis", "model-name": "QM-8T"}]}}` + strings.Repeat("}", 90): "holds no inventory",
		"good morning\n":          "nothing in it is known to say what the device is",
		"<html>sign in</html>":    "holds no inventory",
		"TlvInfo\x00\x01\x00\x00": "has no CRC-32",
	} {
		_, err := ReadSource("f", []byte(text), nil)
		assert.ErrorContains(t, err, want, "%q", text)
	}
}

// No input crashes a reader, and what comes back can be written and read again.
func FuzzReadSource(f *testing.F) {
	f.Add([]byte("Tramline OS\r\nModel : QM-8T\x1b[2K\r\nSlot A 8.2.1 *\n"))
	f.Add(eeprom("21QM-8T", "27B1"))
	f.Add([]byte("\xff\xfeT\x00r\x00a\x00m\x00"))
	f.Add([]byte("Nov 27 02:14:07 cab-07 console: Tramline OS\nNov 27 02:14:07 cab-07 console: Model : QM-8T\n"))
	f.Add([]byte(hardwareXML))
	f.Add([]byte("ENTITY-MIB::entPhysicalClass.1 = INTEGER: chassis(3)\nENTITY-MIB::entPhysicalModelName.1 = STRING: x\n"))
	f.Add([]byte(`[{"@odata.type": "#Chassis.v1.Chassis", "Id": "1", "Model": "VG-20"}]`))
	f.Add(demo.Tree(17, demo.Node{Props: []demo.Prop{{Name: "model", Value: "x"}, {Name: "compatible", Value: []string{"a,b"}}}}))
	f.Add([]byte("00000000: 546c 7649 6e66 6f00 0100 00\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := ReadSource("f", data, []CaptureRule{tramline})
		if err != nil {
			return
		}
		text, err := Merge([]*Reading{r}, nil, nil, ignorance{}).Write("fuzzed", nil)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Read("d.yaml", text); err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
	})
}

// ignorance is a kit without rulebooks.
type ignorance struct{}

func (ignorance) Model(string) (string, bool)  { return "", false }
func (ignorance) Revision(string, string) bool { return false }
func (ignorance) Owners(string) []Owner        { return nil }

// What a capture tells of the device's state is written, and read again as it was.
func TestStateIsWritten(t *testing.T) {
	text := "Tramline OS\nModel : QM-8T\nBank A loader 7.2.0 system 7.2.0 run\nBank B system 7.3.1 next\nfile sys-7.bin 7.2.0 7113 bytes *\njob: failed\nchoice saved: no\nalarm: fan 2 slow\n"
	r, err := ReadSource("c.txt", []byte(text), []CaptureRule{tramline})
	require.NoError(t, err)
	out, err := Merge([]*Reading{r}, nil, nil, books{}).Write("cab", nil)
	require.NoError(t, err)
	d, err := Read("cab.yaml", out)
	require.NoError(t, err, string(out))
	require.Len(t, d.Slots, 2)
	v, ok := d.Slots[0].Version("loader")
	assert.True(t, ok)
	assert.Equal(t, "7.2.0", v.Text)
	assert.True(t, d.Slots[0].Active)
	assert.True(t, d.Slots[1].Next)
	require.Len(t, d.Files, 1)
	assert.Equal(t, "7.2.0", d.Files[0].Version.Text)
	assert.Equal(t, int64(7113), d.Files[0].Size.Bytes)
	require.NotNil(t, d.Job)
	assert.Equal(t, "failed", d.Job.State.Text)
	require.NotNil(t, d.Start.Saved)
	assert.False(t, *d.Start.Saved)
	require.Len(t, d.Faults, 1)
	again, err := ReadSource("cab.yaml", out, nil)
	require.NoError(t, err)
	keys := map[string]string{}
	for _, v := range again.Values {
		keys[v.Key] = v.Text
	}
	for key, want := range map[string]string{"slots.A.loader": "7.2.0", "slots.B.next": "true", "files.sys-7.bin.version": "7.2.0", "job.state": "failed", "start.saved": "false", "faults": "fan 2 slow"} {
		assert.Equal(t, want, keys[key], key)
	}
	for _, bad := range []string{"slots: [{name: A, activ: true}]", "job: {state: busy}", "job: {percent: 120}", "address: here", "files: [{version: '1'}]"} {
		_, err := Read("d.yaml", []byte("kind: device\nname: cab\n"+bad+"\n"))
		assert.Error(t, err, bad)
	}
}

// What is attached may be told by name, serial number and version; two of a model are two.
func TestAttachedByName(t *testing.T) {
	rule := CaptureRule{Name: "r.yaml:1", Recognise: regexp.MustCompile(`^Tramline OS`), Each: []KeyPattern{{"attached", regexp.MustCompile(`^Mast (?P<name>\S+) (?P<model>\S+) (?P<serial>\d+) (?P<main>\S+)`)}}}
	r, err := ReadSource("c.txt", []byte("Tramline OS\nMast north VR-310 88 4.1.0\nMast south VR-310 89 4.1.0\n"), []CaptureRule{rule})
	require.NoError(t, err)
	out, err := Merge([]*Reading{r}, nil, nil, books{}).Write("cab", nil)
	require.NoError(t, err)
	d, err := Read("cab.yaml", out)
	require.NoError(t, err, string(out))
	require.Len(t, d.Attached, 2)
	assert.Equal(t, "south (VR-310)", d.Attached[1].Label())
	assert.Equal(t, "89", d.Attached[1].Serial.Text)
	assert.Equal(t, "4.1.0", d.Attached[1].Main.Text)
	again, err := ReadSource("cab.yaml", out, nil)
	require.NoError(t, err)
	n := 0
	for _, v := range again.Values {
		if v.Key == "attached" {
			assert.Equal(t, "VR-310", v.Text)
			assert.NotEmpty(t, v.More["name"])
			n++
		}
	}
	assert.Equal(t, 2, n)
	_, err = Read("d.yaml", []byte("kind: device\nname: cab\nattached: [VR-1, {name: x}]\n"))
	assert.ErrorContains(t, err, "needs its model")
}
