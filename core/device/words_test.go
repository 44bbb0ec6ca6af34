package device

import (
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// sources are what devices and managers tell, in every form that is read.
var sources = map[string]string{
	"hardware.xml": strings.ReplaceAll(hardwareXML, "><", ">\n<"),
	"stack.json": `{"ietf-hardware:hardware": {"component": [
 {"name": "stack", "class": "iana-hardware:stack"},
 {"name": "one", "class": "iana-hardware:chassis", "parent": "stack", "model-name": "QM-8T", "hardware-rev": "A2", "serial-num": "S1", "software-rev": "8.2.1", "firmware-rev": "3.1"},
 {"name": "two", "class": "iana-hardware:chassis", "parent": "stack", "model-name": "QM-24T", "software-rev": "8.2.1", "state": {"oper-state": "enabled", "alarm-state": "minor"}},
 {"name": "base", "class": "iana-hardware:module", "parent": "one", "model-name": "QM-8T", "serial-num": "S1"},
 {"name": "radio", "class": "iana-hardware:module", "parent": "two", "model-name": "QM-R", "firmware-rev": "4.1"},
 {"name": "fan 2", "class": "iana-hardware:fan", "parent": "two", "state": {"oper-state": "disabled", "alarm-state": "minor critical"}}]}}
`,
	"system.json": `{"ietf-system:system-state": {"platform": {"os-name": "Linux", "os-release": "8.2.1", "os-version": "8.2.1-3", "machine": "aarch64"}},
 "ietf-system:system": {"hostname": "cab07"}}
`,
	"redfish.json": `{"Members": [
 {"@odata.id": "/c/1", "@odata.type": "#Chassis.v1_20_0.Chassis", "Id": "1", "Model": "VG-20", "SerialNumber": "G1", "Version": "r1",
  "Status": {"Health": "Warning", "State": "Enabled", "Conditions": [{"Message": "fan 2 slow", "Severity": "Warning"}]}},
 {"@odata.type": "#SoftwareInventory.v1_4_0.SoftwareInventory", "Id": "Main", "SoftwareId": "sw", "Version": "2.1", "Status": {"State": "Enabled"}},
 {"@odata.type": "#SoftwareInventory.v1_4_0.SoftwareInventory", "Id": "Spare", "SoftwareId": "sw", "Version": "2.2", "Staged": true},
 {"@odata.id": "/u/BMC", "@odata.type": "#SoftwareInventory.v1_4_0.SoftwareInventory", "Id": "BMC", "Version": "2.1", "RelatedItem": [{"@odata.id": "/c/1"}]},
 {"@odata.type": "#Task.v1_7_0.Task", "Id": "7", "TaskState": "Exception", "PercentComplete": 22, "Messages": [{"Message": "error 28: no room"}]},
 {"@odata.type": "#Task.v1_7_0.Task", "Id": "8", "TaskState": "Running", "PercentComplete": 50}]}
`,
	"named.walk.txt": `SNMPv2-MIB::sysName.0 = STRING: cab07
SNMPv2-MIB::sysDescr.0 = STRING: Quillmere switch, software 8.2.1
ENTITY-MIB::entPhysicalClass.1 = INTEGER: stack(11)
ENTITY-MIB::entPhysicalClass.2 = INTEGER: chassis(3)
ENTITY-MIB::entPhysicalContainedIn.2 = INTEGER: 1
ENTITY-MIB::entPhysicalName.2 = STRING: unit 1
ENTITY-MIB::entPhysicalModelName.2 = STRING: QM-8T
ENTITY-MIB::entPhysicalHardwareRev.2 = STRING: A2
ENTITY-MIB::entPhysicalSoftwareRev.2 = STRING: 8.2.1
ENTITY-MIB::entPhysicalFirmwareRev.2 = STRING: 3.1.4
ENTITY-MIB::entPhysicalSerialNum.2 = STRING: 0417-221
ENTITY-MIB::entPhysicalClass.3 = INTEGER: fan(7)
ENTITY-MIB::entPhysicalContainedIn.3 = INTEGER: 2
ENTITY-MIB::entPhysicalName.3 = STRING: fan 2
ENTITY-STATE-MIB::entStateOper.3 = INTEGER: disabled(2)
ENTITY-STATE-MIB::entStateAlarm.3 = BITS: 30 critical(2) major(3)
`,
	"numbered.walk.txt": twoBoxes + `.1.3.6.1.2.1.47.1.1.1.1.8.2 = STRING: "B1"
.1.3.6.1.2.1.47.1.1.1.1.10.2 = STRING: "5.0.2"
.1.3.6.1.2.1.47.1.1.1.1.5.9 = INTEGER: 9
.1.3.6.1.2.1.47.1.1.1.1.4.9 = INTEGER: 2
.1.3.6.1.2.1.47.1.1.1.1.7.9 = STRING: "radio"
.1.3.6.1.2.1.47.1.1.1.1.13.9 = STRING: "VR-310"
.1.3.6.1.2.1.47.1.1.1.1.10.9 = STRING: "4.1"
.1.3.6.1.2.1.131.1.1.1.3.9 = INTEGER: 2
.1.3.6.1.2.1.131.1.1.1.5.9 = Hex-STRING: 28
`,
	"tramline.txt": "Tramline OS\nModel : QM-8T\nRunning: 8.2.1\nFree: 215,040K bytes\nSlot A 8.2.1 *\nSlot B 7.9.1\nPort 1 VR-310\nBank A loader 7.2.0 system 7.2.0 run\nBank B system 7.3.1 next\n" +
		"file sys-7.bin 7.2.0 7113 bytes *\njob: running 22%\nchoice saved: yes\nalarm: fan 2 slow\nUnit 1 QM-8T A2 8.2.1\nUnit 2 QM-24T A1 8.0.3\n",
	"unknown.txt": "Welcome\nModel name ..... QM-8T\nHardware rev: A2\nSerial no. 0417-221\nSoftware version: 8.2.1, build of May\nBoot loader: 3.1.4\nMemory = 256 MB\nFree flash: 20 MB\nArchitecture: armv7l\n" +
		"Bank 1: 8.2.1 (running)\nBank 2: 7.9.1\nHostname cab-07\nuptime is 3 days\n",
	"devices.csv": "name,model,revision,serial,main,boot,slots,faults\ncab-1,QM-8T,A2,S1,8.2.1,3.1,A,fan 2 slow;light\ncab-2,QM-8T,B1,S2,8.3.1,,,\n",
}

// TestWhatEachWordTells holds what is read of sources in every form, and how that changes when a word of them is
// another, missing or there twice, against testdata/words.txt.
func TestWhatEachWordTells(t *testing.T) {
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(sources)) {
		text := sources[name]
		fmt.Fprintf(&b, "## %s\n", name)
		sound := everything(name, text)
		b.WriteString(strings.Join(sound, "\n") + "\n")
		changes := pagetest.Changes{Sound: sound, Alike: anyPlace, Most: 160}
		look := func(what, other string) {
			changes.Tell(&b, what, everything(name, other))
		}
		for _, w := range anyWord.FindAllStringIndex(text, -1) {
			line := 1 + strings.Count(text[:w[0]], "\n")
			was := text[w[0]:w[1]]
			for _, other := range []string{"", "7", "stray", was + " " + was} {
				look(fmt.Sprintf("line %d, %q for %q", line, other, was), text[:w[0]]+other+text[w[1]:])
			}
			changes.End(&b, fmt.Sprintf("line %d, another word for %q", line, was))
		}
		for at := 40; at < len(text); at += 40 {
			look(fmt.Sprintf("cut at %d", at), text[:at])
		}
		changes.End(&b, "cut anywhere")
		b.WriteString("\n")
	}
	pagetest.Hold(t, filepath.Join("testdata", "words.txt"), b.String())
}

// everything is what a source tells, of one device and of several.
func everything(name, text string) []string {
	var out []string
	rules := []CaptureRule{tramline}
	if r, err := ReadSource(name, []byte(text), rules); err != nil {
		out = append(out, "refused: "+err.Error())
	} else {
		out = append(append(out, said(r)...), r.Notes...)
		out = append(out, fmt.Sprintf("form %s, group %q", r.Form, r.Group))
	}
	rows, err := ReadDevices(name, []byte(text), nil, rules)
	if err != nil {
		return append(out, "devices refused: "+err.Error())
	}
	for _, r := range rows {
		if r.Refused != "" {
			out = append(out, "device refused: "+r.Refused)
			continue
		}
		out = append(out, fmt.Sprintf("device %s: %s", r.Name, strings.Join(said(r.Reading), "; ")))
	}
	return out
}

var (
	anyWord  = regexp.MustCompile(`[\w.-]+`)
	anyPlace = regexp.MustCompile(`@\S+`)
)
