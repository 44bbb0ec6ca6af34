package device

import (
	"slices"
	"strings"

	"fitcheck/core/tree"
)

// What inventories say of the state of a device: faults (RFC 8348, section 3,
// container state; RFC 8632, section 4, the list of alarms; Status of DSP0266,
// section 9.6.19), the job that runs (Task of DSP2046) and the images that are
// stored beside the one that runs (SoftwareInventory of DSP8010).

// alarmWords are the bits of alarm-state that say that something is wrong, the
// worst first (RFC 8348, typedef alarm-state; RFC 4268, EntityAlarmStatus has
// the same order).
var alarmWords = []string{"critical", "major", "minor", "warning", "indeterminate", "under-repair"}

// faultOfComponent says what is wrong with one component of ietf-hardware, or "".
func faultOfComponent(name string, state *tree.Node) (string, int) {
	var wrong []string
	line := 0
	if n := one(state, "oper-state"); n != nil && slices.Contains([]string{"disabled", "testing"}, textOf(n)) {
		wrong, line = append(wrong, textOf(n)), n.Line
	}
	if n := one(state, "alarm-state"); n != nil {
		given := strings.Fields(textOf(n))
		for _, w := range alarmWords {
			if slices.Contains(given, w) {
				wrong, line = append(wrong, w+" alarm"), n.Line
			}
		}
	}
	if len(wrong) == 0 {
		return "", 0
	}
	return name + ": " + strings.Join(wrong, ", "), line
}

// alarms reads the list of alarms of ietf-alarms. Those that are cleared are over.
func (r *Reading) alarms(list []*tree.Node) {
	for _, a := range list {
		if !a.IsMap() || textOf(one(a, "is-cleared")) == "true" {
			continue
		}
		kind := textOf(one(a, "alarm-type-id"))
		kind = kind[strings.LastIndexByte(kind, ':')+1:]
		text := textOf(one(a, "alarm-text"))
		if text == "" {
			text = kind
		}
		if of := textOf(one(a, "resource")); of != "" && !strings.Contains(text, of) {
			text = of + ": " + text
		}
		if text != "" {
			r.add("", "faults", text, lineOf(r.File, a.Line))
		}
	}
}

// taskStates are the values of TaskState (schema Task of DSP2046) in the words
// of a device file.
var taskStates = map[string]string{
	"New": "scheduled", "Pending": "scheduled", "Starting": "running", "Running": "running", "Stopping": "running", "Service": "running", "Cancelling": "running",
	"Suspended": "scheduled", "Completed": "done", "Exception": "failed", "Killed": "failed", "Cancelled": "failed", "Interrupted": "failed",
}

// tasks reads Redfish tasks. Of several, the one that runs says what the device
// is doing, else the one that is named last.
func (r *Reading) tasks(all []*tree.Node) {
	var taken *tree.Node
	state := func(n *tree.Node) string { return taskStates[textOf(n.Of["TaskState"])] }
	for _, n := range all {
		switch {
		case state(n) == "":
			r.note("%s: a task without a state that is known", lineOf(r.File, n.Line))
		case taken == nil, state(n) == "running", state(taken) != "running":
			taken = n
		}
	}
	if taken == nil {
		return
	}
	if len(all) > 1 {
		r.note("%s: of %d tasks, %s is taken for what the device is doing", lineOf(r.File, taken.Line), len(all), textOf(taken.Of["Id"]))
	}
	r.take("", "job.state", state(taken), lineOf(r.File, taken.Of["TaskState"].Line))
	if n := taken.Of["PercentComplete"]; !blankText(textOf(n)) {
		r.take("", "job.percent", textOf(n), lineOf(r.File, n.Line))
	}
	if state(taken) != "failed" {
		return
	}
	for _, m := range children(taken, "Messages") {
		if n := m.Of["Message"]; m.IsMap() && !blankText(textOf(n)) {
			r.add("", "job.reason", textOf(n), lineOf(r.File, n.Line))
			return
		}
	}
}

// health reads the status of a Redfish chassis: its conditions, else its health.
func (r *Reading) health(member string, n *tree.Node) {
	status := n.Of["Status"]
	if status == nil || !status.IsMap() {
		return
	}
	told := false
	for _, c := range children(status, "Conditions") {
		if t := c.Of["Message"]; c.IsMap() && !blankText(textOf(t)) {
			r.add(member, "faults", textOf(t), lineOf(r.File, t.Line))
			told = true
		}
	}
	if h := status.Of["Health"]; !told && h != nil && textOf(h) != "OK" && !blankText(textOf(h)) {
		r.add(member, "faults", "health: "+textOf(h), lineOf(r.File, h.Line))
	}
}

// notRunning tells software that is stored, and does not run: staged for the
// next start, or a spare. next says whether the next start takes it.
func notRunning(n *tree.Node) (stored, next bool) {
	if textOf(n.Of["Staged"]) == "true" {
		return true, true
	}
	status := n.Of["Status"]
	if status == nil || !status.IsMap() {
		return false, false
	}
	return slices.Contains([]string{"StandbySpare", "StandbyOffline", "Disabled"}, textOf(status.Of["State"])), false
}

// sameSoftware is what the software is called that runs and has the same SoftwareId.
func sameSoftware(n *tree.Node, all []*tree.Node) string {
	id := textOf(n.Of["SoftwareId"])
	for _, o := range all {
		if stored, _ := notRunning(o); id != "" && o != n && !stored && textOf(o.Of["SoftwareId"]) == id {
			return strings.ToLower(textOf(o.Of["Id"]))
		}
	}
	return ""
}
