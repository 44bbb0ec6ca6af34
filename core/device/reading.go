package device

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fitcheck/core/fact"
	y "fitcheck/core/yamlfile"
)

// Value is one value that a source gives for a key of a device file.
type Value struct {
	// Member is the member of a group that it is about; "" is the device itself.
	Member string
	// Key as read_from names it: "model", "installed.main", "slots.A.main".
	// Keys of lists (boards, features, attached) may come several times.
	Key  string
	Text string
	// At is where it was read.
	At fact.Source
	// Guess: the source does not say plainly that this is the value.
	Guess bool
	// Open: the source's field is used for more than this. The guess becomes
	// sure where a rulebook knows the value.
	Open bool
	// More is what is told of an entry of attached beside its model: name, serial, main.
	More map[string]string
}

// Reading is what one source says.
type Reading struct {
	File string
	Form string // what it was read as, in words
	// ByRule: a rulebook recognises what it is.
	ByRule bool
	// Group is the kind of group that the members form, "" when it is not said.
	Group string
	// Apart: nothing says that the members form a group; they may be devices of their own.
	Apart  bool
	Values []Value
	// Notes tell what else was seen, and what could not be used.
	Notes []string
}

func (r *Reading) add(member, key, text string, at fact.Source) *Value {
	r.Values = append(r.Values, Value{Member: member, Key: key, Text: strings.TrimSpace(text), At: at})
	return &r.Values[len(r.Values)-1]
}

func (r *Reading) note(format string, args ...any) {
	r.Notes = append(r.Notes, fmt.Sprintf(format, args...))
}

// single are the keys with one value; the others of a device file are lists
// and mappings.
var single = []string{"name", "model", "revision", "serial", "arch", "region", "platform", "hypervisor", "family", "state", "storage_free", "memory", "entitled_until",
	"entitled.from", "entitled.until", "entitled.active", "address", "managed_by", "start.saved", "job.state", "job.percent", "job.reason", "config.saved", "config.backed_up"}

// lists are the keys whose values add up.
var lists = []string{"boards", "features", "attached", "faults", "not_together"}

// fileKeys are what a stored file may tell.
var fileKeys = []string{"file", "component", "version", "size", "md5", "next"}

// CheckKey tells whether a key is one that values can be read for.
func CheckKey(key string) error {
	head, rest, nested := strings.Cut(key, ".")
	switch {
	case slices.Contains(single, key) || slices.Contains(lists, key):
		return nil
	case (head == "installed" || head == "companions") && nested && rest != "":
		return nil
	case head == "slots" && nested:
		name, what, ok := strings.Cut(rest, ".")
		if ok && name != "" && what != "" { // any component, or active, next, name
			return nil
		}
	case head == "files" && nested:
		if i := strings.LastIndexByte(rest, '.'); i > 0 && slices.Contains(fileKeys, rest[i+1:]) {
			return nil
		}
	}
	return fmt.Errorf("%q is not a key of a device file; keys are %s, installed.COMPONENT, companions.NAME, slots.NAME.COMPONENT, slots.NAME.active, slots.NAME.next and files.NAME.version", key,
		strings.Join(append(slices.Clone(single), lists...), ", "))
}

// tidy brings the text of a value into the form of a device file.
//
// In one piece: the forms of values, key by key.
func tidy(key, text string) (string, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return "", fmt.Errorf("%s: the text is empty", key)
	}
	switch key {
	case "storage_free", "memory":
		return tidySize(text, true)
	case "arch":
		return fact.CanonicalArch(text), nil
	case "state":
		if !slices.Contains([]string{"running", "boot-loader", "silent"}, text) {
			return "", fmt.Errorf("state is running, boot-loader or silent, not %q", text)
		}
	case "platform":
		if text = strings.ToLower(text); text != "physical" && text != "virtual" {
			return "", fmt.Errorf("platform is physical or virtual, not %q", text)
		}
	case "entitled_until", "entitled.from", "entitled.until", "config.backed_up":
		var d y.Date
		return text, d.ReadScalar(text, y.Spot{Line: 1})
	case "config.saved", "start.saved", "entitled.active":
		return yesNo(text)
	case "job.state":
		text = strings.ToLower(text)
		if !slices.Contains(JobStates, text) {
			return "", fmt.Errorf("the state of a job is one of %s, not %q", strings.Join(JobStates, ", "), text)
		}
	case "job.percent":
		n, err := strconv.Atoi(strings.TrimSuffix(text, "%"))
		if err != nil || n < 0 || n > 100 {
			return "", fmt.Errorf("%q is no percentage", text)
		}
		return strconv.Itoa(n), nil
	}
	switch head, what := key, key[strings.LastIndexByte(key, '.')+1:]; {
	case strings.HasPrefix(head, "slots.") && (what == "active" || what == "next"), strings.HasPrefix(head, "files.") && what == "next":
		return yesNo(text)
	case strings.HasPrefix(head, "files.") && what == "size":
		return tidySize(text, false)
	}
	return text, nil
}

func yesNo(text string) (string, error) {
	switch strings.ToLower(text) {
	case "true", "yes", "y", "saved", "active", "*", "1":
		return "true", nil
	case "false", "no", "n", "unsaved", "inactive", "standby", "0":
		return "false", nil
	}
	return "", fmt.Errorf("%q is neither yes nor no", text)
}

// tidySize reads sizes as consoles print them: "215,040K bytes", "512 MB
// total", "33554432", "1,5 GB". There a K without more stands for 1024 bytes, and a comma
// before three digits parts thousands. What is no whole number of bytes, such as 12.3M, is
// rounded down where rounded allows it, and refused else.
func tidySize(text string, rounded bool) (string, error) {
	refused := fmt.Errorf("%q is not a size", text)
	fields := strings.Fields(text)
	if len(fields) == 0 {
		return "", refused
	}
	plain := y.PlainSize(fields[0])
	number := strings.TrimRight(plain, "kKMGTiBbytes")
	unit := plain[len(number):]
	if unit == "" && len(fields) > 1 {
		unit = fields[1]
	}
	unit = strings.TrimRight(strings.TrimSuffix(strings.ToLower(unit), "bytes"), "b.")
	suffix := map[string]string{"": "", "k": "KiB", "ki": "KiB", "m": "MiB", "mi": "MiB", "g": "GiB", "gi": "GiB", "t": "TiB", "ti": "TiB"}
	s, ok := suffix[unit]
	if !ok {
		return "", refused
	}
	if _, err := y.ParseSize(number + s); err == nil {
		return number + s, nil
	}
	one, err := y.ParseSize("1" + s)
	f, err2 := strconv.ParseFloat(number, 64)
	if bytes := f * float64(one); rounded && strings.Trim(number, "0123456789.") == "" && s != "" && err == nil && err2 == nil && bytes >= 0 && bytes < 1<<62 {
		return strconv.FormatInt(int64(bytes), 10), nil
	}
	return "", refused
}
