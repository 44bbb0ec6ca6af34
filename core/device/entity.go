package device

import (
	"slices"
	"strconv"
	"strings"

	"fitcheck/core/fact"
)

// entity is one physical thing of an inventory: RFC 6933 and RFC 8348 list
// them with the same attributes.
type entity struct {
	id     string
	parent string
	class  string // chassis, module, stack, cpu …
	attrs  map[string]placed
	where  fact.Source
	fault  placed // what is wrong with it, by its own state
}

// placed is a text with its place.
type placed struct {
	text  string
	where fact.Source
}

// Attributes of an entity, as in RFC 8348.
const (
	attrName     = "name"
	attrModel    = "model-name"
	attrHardware = "hardware-rev"
	attrFirmware = "firmware-rev"
	attrSoftware = "software-rev"
	attrSerial   = "serial-num"
	attrMaker    = "mfg-name"
)

func (e *entity) has(attr string) bool { return e.attrs[attr].text != "" }

// takeEntities turns an inventory into values. A stack's chassis, several
// chassis, and modules that run software of their own become members.
//
// In one piece: the classes of entities, in the order in which one needs the other.
func (r *Reading) takeEntities(all []*entity) {
	byID := map[string]*entity{}
	for _, e := range all {
		byID[e.id] = e
	}
	var chassis, modules []*entity
	stack := false
	for _, e := range all {
		switch e.class {
		case "stack":
			stack = true
		case "chassis":
			chassis = append(chassis, e)
		case "module":
			if e.has(attrSoftware) || e.has(attrFirmware) {
				modules = append(modules, e)
			}
		}
	}
	if len(chassis) == 0 { // some list a single thing without its class
		for _, e := range all {
			if e.has(attrModel) && byID[e.parent] == nil && e.class != "stack" {
				chassis = append(chassis, e)
			}
		}
	}
	if len(chassis) == 0 {
		r.note("%s: the inventory lists no chassis", r.File)
		return
	}
	modules = slices.DeleteFunc(modules, func(m *entity) bool { return r.sameBox(m, chassis, byID) })
	member := map[*entity]string{}
	defer func() { r.entityFaults(all, byID, member) }()
	if len(chassis) == 1 && len(modules) == 0 && !stack {
		r.box("", chassis[0])
		return
	}
	switch {
	case stack:
		r.Group = "stack"
	case len(chassis) > 1:
		r.Group, r.Apart = "cluster", true
		r.note("%s: it lists %d chassis and does not call them a stack; they are taken for a cluster", r.File, len(chassis))
	default:
		r.Group = "chassis"
	}
	taken := map[string]bool{}
	for _, e := range append(chassis, modules...) {
		name := e.attrs[attrName].text
		name = memberName(taken, name, strings.TrimSpace(name+" "+e.id), strings.TrimSpace(name+" "+e.attrs[attrSerial].text))
		member[e] = name
		where := e.attrs[attrName].where
		if !where.Given() {
			where = e.where
		}
		r.add(name, "name", name, where)
		r.box(name, e)
	}
}

// memberName is the first of some names that is one, and is not taken; else a number. It is taken then.
func memberName(taken map[string]bool, names ...string) string {
	i := slices.IndexFunc(names, func(n string) bool { return n != "" && !taken[n] })
	name := ""
	if i >= 0 {
		name = names[i]
	}
	for n := len(taken) + 1; name == "" || taken[name]; n++ {
		name = strconv.Itoa(n)
	}
	taken[name] = true
	return name
}

// entityFaults gives what is wrong with a thing to the member that it is a part of,
// or to the device as a whole.
func (r *Reading) entityFaults(all []*entity, byID map[string]*entity, member map[*entity]string) {
	for _, e := range all {
		if e.fault.text == "" {
			continue
		}
		of := ""
		for up, steps := e, 0; up != nil && steps < 32; up, steps = byID[up.parent], steps+1 {
			if name, ok := member[up]; ok {
				of = name
				break
			}
		}
		r.add(of, "faults", e.fault.text, e.fault.where)
	}
}

// sameBox tells whether a module is only the inside of its chassis: it has the
// same serial number, or the same model.
func (r *Reading) sameBox(m *entity, chassis []*entity, byID map[string]*entity) bool {
	for up, steps := byID[m.parent], 0; up != nil && steps < 32; up, steps = byID[up.parent], steps+1 {
		if !slices.Contains(chassis, up) {
			continue
		}
		same := func(attr string) bool { return m.has(attr) && m.attrs[attr].text == up.attrs[attr].text }
		if same(attrSerial) || !m.has(attrModel) || same(attrModel) {
			for _, a := range []string{attrSoftware, attrFirmware} { // it may be the one that says what runs
				if m.has(a) && !up.has(a) {
					up.attrs[a] = m.attrs[a]
				}
			}
			return true
		}
	}
	return false
}

// box takes the attributes of a chassis or module. What runs is the software
// revision; the firmware revision is often the boot loader's, and not always.
func (r *Reading) box(member string, e *entity) {
	add := func(key, attr string) *Value {
		if !e.has(attr) {
			return nil
		}
		return r.add(member, key, e.attrs[attr].text, e.attrs[attr].where)
	}
	add("model", attrModel)
	add("revision", attrHardware)
	add("serial", attrSerial)
	add("installed.main", attrSoftware)
	firmware := "installed.boot"
	if !e.has(attrSoftware) {
		firmware = "installed.main"
	}
	if v := add(firmware, attrFirmware); v != nil {
		v.Guess = true
	}
	if e.has(attrMaker) {
		r.note("%s: made by %s", e.attrs[attrMaker].where, e.attrs[attrMaker].text)
	}
}

// blankText tells texts that stand for nothing.
func blankText(t string) bool {
	switch strings.ToLower(strings.TrimSpace(t)) {
	case "", "n/a", "na", "none", "unknown", "not available", "null", "-":
		return true
	}
	return false
}

func newEntity(id string, where fact.Source) *entity {
	return &entity{id: id, where: where, attrs: map[string]placed{}}
}

func (e *entity) set(attr, text string, where fact.Source) {
	if !blankText(text) {
		e.attrs[attr] = placed{strings.TrimSpace(text), where}
	}
}
