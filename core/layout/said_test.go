package layout

import (
	"bytes"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"fitcheck/core/archive"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
	"fitcheck/internal/pagetest"
)

// TestWhatIsSaid holds what is said of layouts when a line of them is missing or another, and what is then read of an
// image, against testdata/said.txt, so that a change of either is seen.
func TestWhatIsSaid(t *testing.T) {
	var b strings.Builder
	told := map[string]bool{}
	body := append(bytes.Repeat([]byte("b\x00dy"), 50), 0xfe, 0xff, 0xff, 8, 4, 2, 0, 1, 8, 0, 0, 2, 8, 0, 0, 3, 8, 0, 0, 0, 0, 0, 0)
	body = append(append(body, "TAIL"...), 2, 3, 0xde, 0xad)
	for _, l := range []struct {
		name, text string
		image      []byte
	}{{"qmi", qmi, qmiImage(0x0801, 0x13, "the payload of an image")}, {"trailer", trailer, body}} {
		fmt.Fprintf(&b, "## %s\n", l.name)
		sound := lookAt(l.text, l.image)
		b.WriteString(strings.Join(sound, "\n") + "\n")
		var sum pagetest.Sum
		look := func(what, text string) {
			for _, said := range lookAt(text, l.image) {
				sum.Add("%s: %s", what, said)
				known := false
				for _, s := range sound {
					known = known || s == said
				}
				if alike := places.ReplaceAllString(said, "…"); !known && !told[alike] {
					told[alike] = true
					fmt.Fprintf(&b, "%s: %s\n", what, said)
				}
			}
		}
		lines := strings.Split(l.text, "\n")
		for i, line := range lines {
			if strings.TrimSpace(line) == "" {
				continue
			}
			with := func(other string) string {
				out := append([]string{}, lines...)
				out[i] = other
				return strings.Join(out, "\n")
			}
			look(fmt.Sprintf("line %d away", i+1), strings.Join(append(append([]string{}, lines[:i]...), lines[i+1:]...), "\n"))
			look(fmt.Sprintf("line %d twice", i+1), with(line+"\n"+line))
			for n, m := range valued.FindAllStringSubmatchIndex(line, -1) {
				for _, other := range []string{"nonsense", "0", "1", "2", "-1", "64", "70000", "u8", "u64", "i16", "text", "bytes", "end", "end-4", "header_size", "little", "[]", "{1: a}", "{a: b, 99: c}"} {
					look(fmt.Sprintf("line %d, value %d as %s", i+1, n+1, other), with(line[:m[2]]+other+line[m[3]:]))
				}
			}
			for n, m := range pair.FindAllStringIndex(line, -1) {
				look(fmt.Sprintf("line %d, pair %d away", i+1, n+1), with(line[:m[0]]+line[m[1]:]))
			}
			for n, m := range opened.FindAllStringIndex(line, -1) {
				for _, more := range []string{"endian: middle", "endian: big", "stride: 4", "repeat: 3", "repeat: 3, stride: 2", "unit: 16", "unit: 12", "init: 1", "init: end", "init: 4294967296", "bits: {0: a, 40: b}", "values: {1: one}", "list: true", "zero: [0, 4]", "type: u24", "type: text", "size: 0", "about: none", "as: time"} {
					look(fmt.Sprintf("line %d, mapping %d with %s", i+1, n+1, more), with(line[:m[1]]+more+", "+line[m[1]:]))
				}
			}
			for n, m := range key.FindAllStringSubmatchIndex(line, -1) {
				look(fmt.Sprintf("line %d, key %d misspelt", i+1, n+1), with(line[:m[2]]+line[m[2]:m[3]]+"s"+line[m[3]:]))
			}
			fmt.Fprintf(&b, "line %d: in all %s\n", i+1, &sum)
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "said.txt"), b.String())
}

var (
	pair   = regexp.MustCompile(`, [a-z_]+: (?:[^\s{\[',}][^,}\]]*|'[^']*')|[a-z_]+: (?:[^\s{\[',}][^,}\]]*|'[^']*'), `)
	opened = regexp.MustCompile(`\{`)
)

// lookAt lists what is wrong with a layout, or what an image is read to be by it.
func lookAt(text string, data []byte) (out []string) {
	l, err := Read("l.yaml", []byte(text))
	if err != nil {
		return strings.Split(err.Error(), "\n")
	}
	r := image.Begin(format.Builtin().With(l.Format()), data[:min(len(data), archive.HeadSize)], -1, false)
	r.Write(data)
	kind, m, err := r.End(archive.Memory("f", data))
	if err != nil {
		return []string{"refused: " + err.Error()}
	}
	out = append(out, "of the kind "+kind)
	if m == nil {
		return out
	}
	for _, f := range m.Fields {
		out = append(out, fmt.Sprintf("field %s at %d, %d bytes: %q %q", f.Name, f.Offset, len(f.Raw), f.Value, f.Meaning))
	}
	for _, f := range m.Facts {
		out = append(out, fmt.Sprintf("fact %s %q at %d, %d bytes, protected %v", f.About, f.Value, f.Source.Offset, f.Source.Size, f.Protected))
	}
	for _, s := range m.Sums {
		out = append(out, fmt.Sprintf("sum %s over %v but %v: OK %v", s.What, s.Over, s.Zeroed, s.OK))
	}
	for _, p := range m.Parts {
		out = append(out, fmt.Sprintf("part %s at %d, %d bytes", p.Name, p.Offset, p.Size))
	}
	for _, d := range m.Damaged() {
		out = append(out, "damaged: "+d)
	}
	for _, n := range m.AllNotes() {
		out = append(out, "note: "+n)
	}
	return append(out, fmt.Sprintf("extent %d", m.Extent))
}

var (
	valued = regexp.MustCompile(`\w: *([^\s{\[][^,}\]]*|\[[^\]]*\]|\{[^}]*\})`)
	key    = regexp.MustCompile(`(?:^|[\s{])([a-z_]+):`)
	places = regexp.MustCompile(`l\.yaml:\d+:\d+|"[^"]*"|field \S+ at|layout:\S+|[0-9a-f]{8,}|\d+`)
)
