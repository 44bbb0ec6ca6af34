package device

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/tree"
	"fitcheck/core/wording"
)

// Inventory documents as JSON or XML: RFC 8348 (ietf-hardware) and RFC 7317
// (ietf-system, its state) in the encodings of RFC 7951 and RFC 7950, and the
// chassis and software inventory of DMTF Redfish (DSP0266; the schemas Chassis
// and SoftwareInventory of DSP8010).

func init() {
	registerForm(form{rank: 30, read: func(in *input) (*Reading, bool, error) {
		b := in.begins()
		if b[0] != '{' && (b[0] != '[' || !bytes.Contains(b[:min(len(b), 4096)], []byte(`"`))) {
			return nil, false, nil
		}
		r, err := readDocument(in.file, "json", in.data)
		return r, true, err
	}})
	registerForm(form{rank: 40, read: func(in *input) (*Reading, bool, error) {
		if b := in.begins(); b[0] != '<' || logged(b) {
			return nil, false, nil
		}
		r, err := readDocument(in.file, "xml", in.data)
		return r, true, err
	}})
}

// readDocument reads an inventory document.
func readDocument(file, form string, data []byte) (*Reading, error) {
	root, err := tree.Parse(form, data)
	if err != nil {
		where := fact.Source{Kind: fact.Capture, File: file}
		var at *tree.Error
		if errors.As(err, &at) {
			where = lineOf(file, at.Line)
		}
		return nil, fmt.Errorf("%s: it does not read as %s: %s; save the document again", where, strings.ToUpper(form), wording.Text(err))
	}
	r := &Reading{File: file}
	var forms []string
	seen := func(form string) {
		if !slices.Contains(forms, form) {
			forms = append(forms, form)
		}
	}
	var fishes, tasks []*tree.Node
	each(root, 0, func(name string, n *tree.Node) {
		switch {
		case name == "hardware" && children(n, "component") != nil:
			seen("hardware inventory (ietf-hardware)")
			r.hardware(children(n, "component"))
		case name == "system-state" && n.IsMap():
			seen("system state (ietf-system)")
			r.systemState(n)
		case name == "system" && n.IsMap() && one(n, "hostname") != nil:
			seen("system (ietf-system)")
			r.text("name", one(n, "hostname"))
		case name == "alarm-list" && children(n, "alarm") != nil:
			seen("alarms (ietf-alarms)")
			r.alarms(children(n, "alarm"))
		case strings.HasPrefix(odata(n, "type"), "#Task."):
			seen("Redfish task")
			tasks = append(tasks, n)
		case strings.HasPrefix(odata(n, "type"), "#Chassis."), strings.HasPrefix(odata(n, "type"), "#SoftwareInventory."):
			seen("Redfish inventory")
			fishes = append(fishes, n)
		}
	})
	if len(fishes) > 0 {
		r.redfish(fishes)
	}
	r.tasks(tasks)
	if len(forms) == 0 {
		return nil, fmt.Errorf("%s: the document holds no inventory that is read: neither ietf-hardware, ietf-system nor ietf-alarms, nor a Redfish chassis, software inventory or task", file)
	}
	r.Form = strings.Join(forms, " and ")
	return r, nil
}

// each visits every node under its name without a module's prefix.
func each(n *tree.Node, depth int, visit func(name string, n *tree.Node)) {
	if n == nil || depth > 64 {
		return
	}
	if depth == 0 {
		visit("", n)
	}
	for _, k := range n.Keys {
		name := k[strings.LastIndexByte(k, ':')+1:]
		visit(name, n.Of[k])
		each(n.Of[k], depth+1, visit)
	}
	for _, c := range n.List {
		visit("", c)
		each(c, depth+1, visit)
	}
}

// one finds the child of a name, with or without a module's prefix.
func one(n *tree.Node, name string) *tree.Node {
	if n == nil {
		return nil
	}
	for _, k := range n.Keys {
		if k[strings.LastIndexByte(k, ':')+1:] == name {
			return n.Of[k]
		}
	}
	return nil
}

// children lists the elements of a name: a list, or one of XML that stands
// alone.
func children(n *tree.Node, name string) []*tree.Node {
	c := one(n, name)
	switch {
	case c == nil:
		return nil
	case c.List != nil:
		return c.List
	}
	return []*tree.Node{c}
}

func textOf(n *tree.Node) string {
	if n == nil || n.Text == tree.Repeated {
		return ""
	}
	return strings.TrimSpace(n.Text)
}

// text adds the text of a node as a value.
func (r *Reading) text(key string, n *tree.Node) *Value {
	if n == nil || blankText(textOf(n)) {
		return nil
	}
	return r.add("", key, textOf(n), lineOf(r.File, n.Line))
}

// hardware reads the components of ietf-hardware (RFC 8348, section 3).
func (r *Reading) hardware(components []*tree.Node) {
	var all []*entity
	for _, c := range components {
		if !c.IsMap() {
			continue
		}
		e := newEntity(textOf(one(c, "name")), lineOf(r.File, c.Line))
		e.parent = textOf(one(c, "parent"))
		class := textOf(one(c, "class")) // "iana-hardware:chassis"
		e.class = class[strings.LastIndexByte(class, ':')+1:]
		for _, attr := range []string{attrName, attrModel, attrHardware, attrFirmware, attrSoftware, attrSerial, attrMaker} {
			if n := one(c, attr); n != nil {
				e.set(attr, textOf(n), lineOf(r.File, n.Line))
			}
		}
		if text, line := faultOfComponent(e.id, one(c, "state")); text != "" {
			e.fault = placed{text, lineOf(r.File, line)}
		}
		all = append(all, e)
	}
	r.takeEntities(all)
}

// systemState reads the platform of ietf-system (RFC 7317, section 3): the
// machine is the architecture as the system names it. What release and version
// of the operating system mean for an image, each maker decides.
func (r *Reading) systemState(n *tree.Node) {
	p := one(n, "platform")
	if m := one(p, "machine"); fact.KnownArch(textOf(m)) {
		r.add("", "arch", fact.CanonicalArch(textOf(m)), lineOf(r.File, m.Line))
	} else if textOf(m) != "" {
		r.note("%s: the machine is %s", lineOf(r.File, m.Line), textOf(m))
	}
	if v := r.text("installed.main", one(p, "os-release")); v != nil {
		v.Guess = true
	}
	if t := one(p, "os-version"); textOf(t) != "" {
		r.note("%s: the version of the operating system is given as %s", lineOf(r.File, t.Line), textOf(t))
	}
	if t := one(p, "os-name"); textOf(t) != "" {
		r.note("%s: the operating system is %s", lineOf(r.File, t.Line), textOf(t))
	}
}

// odata is an annotation of a Redfish resource.
func odata(n *tree.Node, what string) string {
	if n == nil || !n.IsMap() {
		return ""
	}
	return textOf(n.Of["@odata."+what])
}

// redfish reads chassis and software inventory. Each chassis beyond the first
// makes a group; software belongs to the chassis that it is related to.
//
// In one piece: the parts of the document, one after the other.
func (r *Reading) redfish(all []*tree.Node) {
	member := map[string]string{} // chassis by @odata.id
	var chassis, software []*tree.Node
	for _, n := range all {
		if strings.HasPrefix(odata(n, "type"), "#Chassis.") {
			chassis = append(chassis, n)
		} else {
			software = append(software, n)
		}
	}
	if len(chassis) > 1 {
		r.Group, r.Apart = "cluster", true
		r.note("%s: it lists %d chassis; they are taken for a cluster", r.File, len(chassis))
	}
	taken := map[string]bool{}
	for _, n := range chassis {
		name := ""
		if len(chassis) > 1 {
			id := textOf(n.Of["Id"])
			name = memberName(taken, id, strings.TrimSpace(id+" "+textOf(n.Of["SerialNumber"])))
			r.add(name, "name", name, lineOf(r.File, n.Line))
		}
		member[odata(n, "id")] = name
		for _, f := range []struct{ key, property string }{{"model", "Model"}, {"serial", "SerialNumber"}, {"revision", "Version"}} {
			if v := r.text(f.key, n.Of[f.property]); v != nil {
				v.Member = name
			}
		}
		r.health(name, n)
		for _, p := range []string{"Manufacturer", "PartNumber", "SKU"} {
			if t := n.Of[p]; !blankText(textOf(t)) {
				r.note("%s: %s %s", lineOf(r.File, t.Line), p, textOf(t))
			}
		}
	}
	for _, n := range software {
		id := strings.ToLower(textOf(n.Of["Id"]))
		version := n.Of["Version"]
		if id == "" || blankText(textOf(version)) {
			continue
		}
		owner, known := "", false
		for _, rel := range children(n, "RelatedItem") {
			if name, ok := member[odata(rel, "id")]; ok {
				owner, known = name, true
			}
		}
		if len(chassis) > 1 && !known {
			r.note("%s: %s %s is not said to belong to one of the chassis", lineOf(r.File, n.Line), id, textOf(version))
			continue
		}
		if stored, next := notRunning(n); stored {
			component := id
			if other := sameSoftware(n, software); other != "" {
				component = other
			}
			where := lineOf(r.File, n.Line)
			for _, kv := range [][2]string{{"file", id}, {"component", component}, {"version", textOf(version)}} {
				r.add(owner, "files."+id+"."+kv[0], kv[1], where)
			}
			if next {
				r.add(owner, "files."+id+".next", "true", where)
			}
			continue
		}
		if v := r.text("installed."+id, version); v != nil {
			v.Member = owner
		}
	}
}
