package device

import (
	"cmp"
	"encoding/hex"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// SNMP walk text of the ENTITY-MIB (RFC 6933, entPhysicalTable), of the
// ENTITY-STATE-MIB (RFC 4268, entStateTable) and of the system group
// (RFC 3418), with named or numeric object identifiers.

const (
	entityOID = "1.3.6.1.2.1.47.1.1.1.1."
	stateOID  = "1.3.6.1.2.1.131.1.1.1." // entStateTable
	systemOID = "1.3.6.1.2.1.1."
)

// walkLine is "ENTITY-MIB::entPhysicalModelName.1 = STRING: "QM-8T"" or
// ".1.3.6.1.2.1.47.1.1.1.1.13.1 = STRING: QM-8T".
var walkLine = regexp.MustCompile(`^\s*(?:[A-Za-z0-9-]+::)?([A-Za-z][\w-]*|\.?(?:iso|1)(?:\.\d+)+)\.(\d+)\s*=\s*(?:([A-Za-z0-9-]+):\s?)?(.*)$`)

// entityColumns are the columns of entPhysicalTable that matter.
var entityColumns = map[string]string{
	"4": "parent", "5": "class", "7": attrName, "8": attrHardware, "9": attrFirmware, "10": attrSoftware, "11": attrSerial, "12": attrMaker, "13": attrModel,
	"entPhysicalContainedIn": "parent", "entPhysicalClass": "class", "entPhysicalName": attrName, "entPhysicalHardwareRev": attrHardware,
	"entPhysicalFirmwareRev": attrFirmware, "entPhysicalSoftwareRev": attrSoftware, "entPhysicalSerialNum": attrSerial,
	"entPhysicalMfgName": attrMaker, "entPhysicalModelName": attrModel,
}

// entityClasses are the numbers of PhysicalClass.
var entityClasses = map[string]string{"3": "chassis", "5": "container", "6": "power-supply", "7": "fan", "8": "sensor", "9": "module", "10": "port", "11": "stack", "12": "cpu"}

// column names what a line of a walk is about: a column of entPhysicalTable,
// or sysName.
func column(object string) (name string, ok bool) {
	object = strings.TrimPrefix(strings.Replace(object, "iso", "1", 1), ".")
	if n, is := strings.CutPrefix(object, entityOID); is {
		name, ok = entityColumns[n]
		return name, ok
	}
	if n, is := strings.CutPrefix(object, stateOID); is {
		name, ok = map[string]string{"3": "entStateOper", "5": "entStateAlarm"}[n]
		return name, ok
	}
	if object == "entStateOper" || object == "entStateAlarm" {
		return object, true
	}
	if object == systemOID+"5" || object == "sysName" {
		return "sysName", true
	}
	name, ok = entityColumns[object]
	return name, ok && !strings.ContainsAny(object[:1], "0123456789")
}

func init() {
	registerForm(form{rank: 80, read: func(in *input) (*Reading, bool, error) {
		r, ok := readWalk(in.file, in.screen())
		return r, ok, nil
	}})
}

// readWalk reads an SNMP walk; ok is false when the text is none.
//
// In one piece: one loop over the lines, with what each may be.
func readWalk(file string, lines []line) (r *Reading, ok bool) {
	r = &Reading{File: file, Form: "SNMP walk of the ENTITY-MIB"}
	entities, states := map[int]*entity{}, map[int][]placed{}
	for _, l := range lines {
		m := walkLine.FindStringSubmatch(l.bare())
		if m == nil {
			continue
		}
		name, is := column(m[1])
		index, err := strconv.Atoi(m[2])
		if !is || err != nil {
			continue
		}
		text, where := walkText(m[3], m[4]), lineOf(file, l.number)
		if name == "entStateOper" || name == "entStateAlarm" {
			state := walkOper(text)
			if name == "entStateAlarm" {
				state = walkAlarm(m[3], m[4])
			}
			if state != "" {
				states[index] = append(states[index], placed{state, where})
			}
			continue
		}
		if name == "sysName" {
			if !blankText(text) {
				r.add("", "name", text, where)
			}
			continue
		}
		ok = true
		e := entities[index]
		if e == nil {
			e = newEntity(m[2], where)
			entities[index] = e
		}
		switch name {
		case "parent":
			e.parent = text
		case "class":
			e.class = walkClass(text)
		default:
			e.set(name, text, where)
		}
	}
	all := make([]*entity, 0, len(entities))
	for index, e := range entities {
		if of := states[index]; len(of) > 0 {
			var words []string
			for _, s := range of {
				words = append(words, s.text)
			}
			e.fault = placed{cmp.Or(e.attrs[attrName].text, "item "+e.id) + ": " + strings.Join(words, ", "), of[0].where}
		}
		all = append(all, e)
	}
	slices.SortFunc(all, func(a, b *entity) int {
		x, _ := strconv.Atoi(a.id)
		y, _ := strconv.Atoi(b.id)
		return cmp.Compare(x, y)
	})
	if ok {
		r.takeEntities(all)
	}
	return r, ok
}

// walkText takes the type and the quotes off a value.
func walkText(kind, text string) string {
	text = strings.TrimSpace(text)
	if kind == "Hex-STRING" {
		if b, err := hex.DecodeString(strings.ReplaceAll(text, " ", "")); err == nil {
			return strings.TrimRight(string(b), "\x00 ")
		}
	}
	if unquoted, ok := strings.CutPrefix(text, `"`); ok {
		return strings.TrimSuffix(unquoted, `"`)
	}
	return text
}

// walkClass reads "chassis(3)", "3" and "chassis".
func walkClass(text string) string {
	name, number, ok := strings.Cut(strings.TrimSuffix(text, ")"), "(")
	if !ok {
		number = name
	}
	if c, known := entityClasses[number]; known {
		return c
	}
	return name
}

// walkOper reads an operational state that is none to work with: "disabled(2)",
// "2", "testing(4)" (RFC 4268, EntityOperState).
func walkOper(text string) string {
	name, number, ok := strings.Cut(strings.TrimSuffix(text, ")"), "(")
	if !ok {
		number = name
	}
	switch {
	case number == "2" || name == "disabled":
		return "disabled"
	case number == "4" || name == "testing":
		return "testing"
	}
	return ""
}

// walkAlarm reads the bits of EntityAlarmStatus (RFC 4268; bit 0, unknown, is the
// highest of the first octet), printed as hex octets or with the bits' names.
func walkAlarm(kind, text string) string {
	names := []string{"unknown", "under-repair", "critical", "major", "minor", "warning", "indeterminate"}
	var words []string
	take := func(bit int) {
		if bit > 0 && bit < len(names) {
			words = append(words, names[bit]+" alarm")
		}
	}
	fields := strings.Fields(strings.Trim(strings.TrimSpace(text), `"`))
	named := false
	for _, f := range fields {
		if _, number, ok := strings.Cut(strings.TrimSuffix(f, ")"), "("); ok {
			if bit, err := strconv.Atoi(number); err == nil {
				take(bit)
				named = true
			}
		}
	}
	if b, err := hex.DecodeString(strings.Join(fields[:min(1, len(fields))], "")); !named && err == nil && len(b) == 1 && (kind == "BITS" || kind == "Hex-STRING" || kind == "") {
		for bit := range 8 {
			if b[0]&(0x80>>bit) != 0 {
				take(bit)
			}
		}
	}
	return strings.Join(words, ", ")
}
