package device

import (
	"bytes"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatTextsAreReadAs holds what single labels, values, lines of a walk and bytes of a console are read as against
// testdata/texts.txt.
func TestWhatTextsAreReadAs(t *testing.T) {
	var b strings.Builder
	section := func(name string) { fmt.Fprintf(&b, "## %s\n", name) }
	told := func(text string, err error) string {
		if err != nil {
			return "refused: " + err.Error()
		}
		return fmt.Sprintf("%q", text)
	}

	section("labels")
	for _, s := range []string{
		"Model", "model name", "Device model", "Hardware revision", "HW", "Serial", "Serial Number", "Boot loader version", "Boot", "Software version", "Running version", "Memory", "Total memory", "Free memory", "Flash", "Free flash space",
		"Flash free", "Storage free", "CPU", "Architecture", "Hostname", "System name", "Board", "Board ID", "Family", "Image family", "Uptime", "", "x", "Platform", "State", "Maker", "Name", "MODEL:", "Product  name", "Part number",
	} {
		fmt.Fprintf(&b, "%q: %q\n", s, UsualKey(s))
	}
	section("values")
	for _, key := range []string{"storage_free", "arch", "state", "platform", "entitled_until", "config.saved", "start.saved", "entitled.active", "entitled.from", "config.backed_up", "job.state", "job.percent", "slots.A.active", "slots.A.next", "slots.A.main", "files.x.size", "files.x.next", "files.x.version", "name"} {
		for _, text := range []string{"", " ", "yes", "No", "*", "1", "0", "saved", "standby", "running", "Failed", "silent", "Virtual", "physical", "2026-01-02", "02.01.2026", "22%", "100", "101", "-1", "aarch64", "x86", "512 MB", "nonsense"} {
			fmt.Fprintf(&b, "%s %q: %s\n", key, text, told(tidy(key, text)))
		}
	}
	section("sizes")
	for _, s := range []string{
		"215,040K bytes", "512 MB total", "33554432", "33_554_432 bytes", "1.5G", "1.5 GiB", "64k", "64 KB", "64kB", "0", "-1", "1 TB", "1 PB", "B", "12B", "12 b", "1,5 GB", "1,25M", "12.3M", "1,500 GB", "1,500,000K", "1,5,0", "0.1", "512MB free of 1024MB", "512 Mbytes", "0x10", "1e3", "1e3K", "infM", "9223372036854775807", "9223372036854775808", "1.1", "1.1K", "5 G.", "total 5",
	} {
		fmt.Fprintf(&b, "%q: %s\n", s, told(tidySize(s, true)))
		fmt.Fprintf(&b, "    of a file: %s\n", told(tidySize(s, false)))
	}
	section("marks, members and keys")
	for _, s := range []string{"", "*", "yes", "no", "x", "active", "inactive", "->", "main", "boot", "installed_boot", "companions_controller", "config_saved", "serial", "model", "slots_A", "job_state", "name", "installed.main", "slots.A.main", "slots.A.x", "files.a.b.size", "companions.c", "config.saved", "boards", "faults", "no_such", "a.b.c.d", ".", "slots..main"} {
		err := CheckKey(s)
		fmt.Fprintf(&b, "%q: marked %s, of a member %q, a key: %v, blank %v\n", s, marked(s), memberKey(s), err, blankText(s))
	}
	section("walks")
	for _, s := range []string{
		"iso.3.6.1.2.1.47.1.1.1.1.13", ".1.3.6.1.2.1.47.1.1.1.1.11", "1.3.6.1.2.1.47.1.1.1.1.2", "1.3.6.1.2.1.47.1.1.1.1.99", "1.3.6.1.2.1.131.1.1.1.3", "1.3.6.1.2.1.131.1.1.1.5", "1.3.6.1.2.1.131.1.1.1.4", "1.3.6.1.2.1.1.5", "1.3.6.1.2.1.1.6",
		"sysName", "sysDescr", "entPhysicalModelName", "entPhysicalClass", "entStateOper", "entStateAlarm", "13", "",
	} {
		name, ok := "", false
		if s != "" {
			name, ok = column(s)
		}
		fmt.Fprintf(&b, "%q: %q %v\n", s, name, ok)
	}
	for _, s := range []string{"chassis(3)", "3", "chassis", "module(9)", "99", "x(", "fan(7", "", "disabled(2)", "2", "testing(4)", "4", "enabled(3)", "testing", "disabled", "1", "\"a b\"", "\"a", "61 62 00 20", "6", "zz", " x "} {
		fmt.Fprintf(&b, "%q: class %q, state %q, text %q, of hexadecimal digits %q\n", s, walkClass(s), walkOper(s), walkText("STRING", s), walkText("Hex-STRING", s))
	}
	for _, s := range []string{"\"\"", "00", "80", "40", "20", "10", "08", "04", "02", "01", "60", "7F", "FF", "00 80", "20 00", "critical(2)", "critical(2) minor(4)", "unknown(0)", "x(9)", "critical", "\" \"", "\"@\"", "0x20", "6 0", "critical(x)"} {
		fmt.Fprintf(&b, "%q: alarm %q, of bits %q\n", s, walkAlarm("STRING", s), walkAlarm("Hex-STRING", s))
	}
	section("consoles")
	const esc = "\x1b"
	for _, s := range []string{
		"plain", "a\rb", "abc\rx", "abc\b\bx", "\b\bx", "a\tb", "12345678\tb", "a\x07b", "a\x7fb", "a\x00b", "a\xffb", "é\rx", "tail  ", "two\nlines\n", "two\r\nlines\r\n", "\n\n",
		"abc" + esc + "[2Dx", "abc" + esc + "[Dx", "abc" + esc + "[0Dx", "abc" + esc + "[99Dx", "a" + esc + "[3Cb", "a" + esc + "[Cb", "abc" + esc + "[2Gx", "abc" + esc + "[Gx", "abc" + esc + "[0Gx", "abc" + esc + "[9999Gx",
		"abc\r" + esc + "[K", "abc\rx" + esc + "[K", "abc\rx" + esc + "[0K", "abc\rx" + esc + "[1K", "abc\rx" + esc + "[2K", "abc" + esc + "[2Kx", "a" + esc + "[31mred" + esc + "[0m", "a" + esc + "[1;31mred", "a" + esc + "[?25hb", "a" + esc + "[3\nb", "a" + esc + "[3;\x01b",
		"a" + esc + "]0;title\x07b", "a" + esc + "]0;title" + esc + "\\b", "a" + esc + "]0;title\nb", "a" + esc + "]0;no end", "a" + esc + "Pq" + esc + "\\b", "a" + esc + "^x\x07b", "a" + esc + "_x\x07b", "a" + esc + "(Bb", "a" + esc + ")0b", "a" + esc + "7b", "a" + esc + "cb", "a" + esc, "a" + esc + "[", "a" + esc + "[3",
		"a" + esc + "[" + strings.Repeat("1", 80) + "mb", "a" + esc + "]" + strings.Repeat("x", 5000) + "\x07b", "a" + esc + " Fb", "a" + esc + "#8b", "a" + esc + "\nb", "a" + esc + "éb",
		"-- more --\r          \rnext", "--More-- next", "<space to continue> x", "(more 12%) x", "press any key to continue. x", "Press ENTER for more x", "more of it", "--- mehr --- x", "[weiter] x", "2026-01-02 03:04:05 text", "[2026-01-02T03:04:05.123Z]: text", "2026-01-02 text", strings.Repeat("x", 5000) + "\ry",
	} {
		var lines []string
		for _, l := range screenLines([]byte(s)) {
			lines = append(lines, fmt.Sprintf("%d %q", l.number, pagetest.Cut(l.text, 60)))
		}
		fmt.Fprintf(&b, "%q: %s\n", pagetest.Cut(s, 60), strings.Join(lines, ", "))
	}
	section("rows")
	for _, s := range []string{
		"name,model,features,faults,boards\nc1,Q-1,poe vlan;ring|mesh,no light|fan 2 slow;hot,a b;c\n", "name;model\n;Q-1\nc2;\n;\n", "serial\tmodel\nS1\tQ-1\textra\n", "name,x,model\nc1,y,Q-1\n", "name\n", "model\nQ-1\n", "name,name\na,b\n", "name,model\n\"c 1\",\"Q\"\n", "name,model\nn/a,Q-1\n-,Q-2\n", "\n", "name,storage_free\nc1,12.5M\n",
	} {
		rows, err := ReadRows("r.csv", []byte(s), nil)
		fmt.Fprintf(&b, "%q: %v\n", s, err)
		for _, r := range rows {
			fmt.Fprintf(&b, "    %s\n", pagetest.Cut(pagetest.Line(r), 1500))
		}
	}
	section("captures")
	lists := CaptureRule{Name: "r.yaml:1", Recognise: regexp.MustCompile(`^Tram`), Member: regexp.MustCompile(`^== (\S+)`),
		Read: []KeyPattern{{"model", regexp.MustCompile(`^Model:\s*\n\s*(\S+)`)}, {"config.saved", regexp.MustCompile(`^Saved: (?P<at>\S+)`)}, {"serial", regexp.MustCompile(`^S/N ((?:\d+))`)}},
		Each: []KeyPattern{{"installed", regexp.MustCompile(`^\* (?P<component>\w+) at (?P<version>\S+)`)}, {"installed", regexp.MustCompile(`^\+ (\w+)(?: at (?P<version>\S+))?`)}, {"companions", regexp.MustCompile(`^with (?P<name>\S+) (?P<version>\S+)`)},
			{"attached", regexp.MustCompile(`^port \d+: (?P<model>\S+)(?: (?P<name>\S+))?(?: (?P<serial>\S+))?(?: (?P<main>\S+))?$`)}, {"boards", regexp.MustCompile(`^board (\S+)`)}, {"features", regexp.MustCompile(`^on: (?P<feature>\S*)`)},
			{"files", regexp.MustCompile(`^- (?P<file>\S+)\s+(?P<size>\S+)`)}, {"slots", regexp.MustCompile(`^slot (?P<name>\d)(?P<active>\*)?(?: (?P<main>[\d.]+))?(?P<next> next)?`)}}}
	for _, s := range []string{
		"Tram\n* main at 8.4\n* boot at 3.2\n", "Tram\n+ main at 8.4\n+ poe\n", "Tram\nwith radiod 2.7\nwith controller 5.1\n", "Tram\nport 1: VR-310\nport 2: VR-320 west S1 8.0\n", "Tram\nboard a,b\nboard c\non: vlan\non: \n", "Tram\n- x.img 12K\n- y.img lots\n",
		"Tram\nslot 1* 8.4\nslot 2 8.3 next\nslot 3\n", "Tram\nModel:\n  Q-1\nSaved: yes\nS/N 17\n", "Tram\n== a\nModel:\n Q-1\n* main at 8.4\n== b\n* main at 8.3\n", "Other\n* main at 8.4\n", "Tram\nModel:\n\nModel:\n  Q-2\nModel:\n  Q-3\n", "Tram\nSaved: perhaps\n", "",
	} {
		r, err := ReadSource("c.txt", []byte(s), []CaptureRule{lists})
		fmt.Fprintf(&b, "%q: %v\n", s, err)
		if r == nil {
			continue
		}
		for _, v := range r.Values {
			fmt.Fprintf(&b, "    %q %s = %q, %v at %s\n", v.Member, v.Key, v.Text, v.More, v.At.Where())
		}
		fmt.Fprintf(&b, "    %q %q\n", r.Group, r.Notes)
	}
	section("EEPROMs")
	codes := []string{"77x"}
	for code := range 0x13 {
		codes = append(codes, fmt.Sprintf("%02xT%d", 0x20+code, code))
	}
	codes = append(codes, "fd\x00\x00\x12\x34x", "24\x00\x01\x02\x03\x04\x05", "2a\x00\x08", "2a\x08", "26\x02", "26", "21\x00\x01", "23S 1 ")
	for _, c := range codes {
		r, err := ReadSource("e.bin", eeprom(c), nil)
		fmt.Fprintf(&b, "%q: %v", c, err)
		if r != nil {
			fmt.Fprintf(&b, " %q %q", said(r), r.Notes)
		}
		fmt.Fprintln(&b)
	}
	section("hexadecimal")
	for _, s := range []string{"", "a", "ab", "\x00\xff", "abcdefgh"} {
		fmt.Fprintf(&b, "%q: %q\n", s, hexBytes([]byte(s), ":"))
	}
	section("two bytes a letter")
	for _, others := range []int{0, 1, 2, 3} { // letters beyond ASCII among forty
		for _, order := range []string{"little", "big"} {
			var text []byte
			for i := range 40 {
				low, high := byte('a'), byte(0)
				if i < others {
					high = 4
				}
				if order == "little" {
					text = append(text, low, high)
				} else {
					text = append(text, high, low)
				}
			}
			for _, n := range []int{6, 8, 20, 80} {
				got, is := utf16Order(text[len(text)-n:])
				fmt.Fprintf(&b, "%d of 40 beyond ASCII, %s end first, last %d bytes: %v %v\n", others, order, n, got, is)
				got, is = utf16Order(text[:n])
				fmt.Fprintf(&b, "    first %d bytes: %v %v\n", n, got, is)
			}
		}
	}
	for _, s := range []string{"\xff\xfea\x00", "\xfe\xff\x00a", "\xef\xbb\xbfa", "abcdefgh", "", "<13>Jan  2 03:04:05 host x", "<13>1 2026-01-02T03:04:05Z host app - - - x", "Jan  2 03:04:05 host x"} {
		out, err := decoded("x.txt", []byte(s))
		fmt.Fprintf(&b, "%q: %s, of a log %v\n", s, told(string(out), err), logged(bytes.Repeat([]byte(s+"\n"), 3)))
	}
	pagetest.Hold(t, filepath.Join("testdata", "texts.txt"), b.String())
}
