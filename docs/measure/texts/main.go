// Command texts measures what small texts cost at worst: manifests, checksum lists,
// captures, device files and rulebooks of at most 1 MiB that are made to expand. It builds
// the program, writes each text into a kit of its own, and prints a table of CPU time and
// memory, the worst first:
//
//	go run ./docs/measure/texts [-only PART]
package main

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"time"
)

// A text is one that is made to expand: the files of a kit, and how the program is called
// on them.
type text struct {
	name  string
	files map[string][]byte // by their path in the kit
	call  []string
}

const most = 1 << 20

const rules = `kind: rulebook
title: T
models: {QM-8T: {families: [f], revisions: {A1: {arch: arm}, A2: {arch: arm}}}}
families: {f: {components: {boot: {optional: true}, main: {}}}}
packages: [{title: b, file: '^p\.zip$', %s}]
releases: [{version: "2", families: [f]}, {version: "1", families: [f]}]
hops: {upward: open}
`

const device = "kind: device\nname: d\nmodel: QM-8T\nrevision: A2\ninstalled: {main: '1'}\n"

// repeat writes lines until the text has the greatest size.
func repeat(head string, line func(i int) string, tail string) []byte {
	var b bytes.Buffer
	b.WriteString(head)
	for i := 0; ; i++ {
		l := line(i)
		if b.Len()+len(l)+len(tail) > most {
			break
		}
		b.WriteString(l)
	}
	b.WriteString(tail)
	return b.Bytes()
}

func zipped(files map[string][]byte) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for name, data := range files {
		f, err := w.Create(name)
		check(err)
		_, err = f.Write(data)
		check(err)
	}
	check(w.Close())
	return b.Bytes()
}

// listed is a package whose manifest is a text, of a form that a rulebook describes.
func listed(name, rule string, manifest []byte, more map[string][]byte) []text {
	files := map[string][]byte{"m.txt": manifest, "a.img": []byte("\x01\x02\x03 an image")}
	for n, d := range more {
		files[n] = d
	}
	kit := map[string][]byte{"rulebooks/r.yaml": fmt.Appendf(nil, rules, rule), "devices/d.yaml": []byte(device), "packages/p.zip": zipped(files)}
	return []text{{name + ", survey", kit, []string{"survey", "p.zip"}}, {name + ", match", kit, []string{"match", "-json", "-device", "d", "p.zip"}}}
}

// In one piece: the rows, one after the other.
func texts() []text {
	var out []text
	lines := `manifest: {item: '**/m.txt', form: lines, heading: '^\[(?P<models>[^\]]+)\]$', record: '^(?P<component>\w+) (?P<file>\S+) (?P<version>\S+)(?: (?P<revisions>\S+))?$'}`
	doc := func(form string) string { return "manifest: {item: '**/m.txt', form: " + form + "}" }
	add := func(all ...text) { out = append(out, all...) }
	add(listed("one file listed over and over", lines, repeat("[QM-8T]\n", func(i int) string { return fmt.Sprintf("main a.img %d\n", i) }, ""), nil)...)
	add(listed("one file listed over and over alike", lines, repeat("[QM-8T]\n", func(int) string { return "main a.img 2 A2\n" }, ""), nil)...)
	models := strings.Repeat("M1 ", 90_000)
	add(listed("a heading of many models over many records", lines, repeat("["+models+"]\n", func(i int) string { return fmt.Sprintf("main f%d 2\n", i) }, ""), nil)...)
	add(listed("a heading of many models over one file", lines, repeat("["+models+"]\n", func(i int) string { return fmt.Sprintf("main a.img %d\n", i) }, ""), nil)...)
	add(listed("many headings", lines, repeat("", func(i int) string { return fmt.Sprintf("[M%d]\nmain a.img 2\n", i) }, ""), nil)...)
	add(listed("a record of many revisions", lines, repeat("[QM-8T]\nmain a.img 2 ", func(i int) string { return fmt.Sprintf("A%d,", i) }, "\n"), nil)...)
	add(listed("lines that nothing reads", lines, repeat("", func(int) string { return "?\n" }, ""), nil)...)
	add(listed("absent files", lines, repeat("[QM-8T]\n", func(i int) string { return fmt.Sprintf("main f%d 2\n", i) }, ""), nil)...)
	add(listed("json records", doc("json"), repeat(`{"files": [`, func(int) string { return `{"file":"a.img"},` }, `{"file":"a.img","models":"QM-8T","component":"main"}]}`), nil)...)
	add(listed("json nested", doc("json"), repeat("", func(int) string { return "[" }, ""), nil)...)
	add(listed("json keys", doc("json"), repeat("{", func(i int) string { return fmt.Sprintf("\"%d\":0,", i) }, `"x":1}`), nil)...)
	add(listed("yaml aliases", doc("yaml"), []byte("a: &a [x,x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b,*b,*b]\nd: &d [*c,*c,*c,*c,*c,*c,*c,*c,*c,*c]\ne: &e [*d,*d,*d,*d,*d,*d,*d,*d,*d,*d]\nf: &f [*e,*e,*e,*e,*e,*e,*e,*e,*e,*e]\ng: [*f,*f,*f,*f,*f,*f,*f,*f,*f,*f]\n"), nil)...)
	add(listed("yaml records", doc("yaml"), repeat("", func(int) string { return "- {file: a.img}\n" }, "- {file: a.img, models: QM-8T, component: main}\n"), nil)...)
	add(listed("csv rows", doc("csv"), repeat("file,models,component\n", func(int) string { return "a.img,QM-8T,main\n" }, ""), nil)...)
	add(listed("csv columns", doc("csv"), repeat("file", func(int) string { return ",x" }, "\na.img\n"), nil)...)
	add(listed("ini sections", doc("ini"), repeat("", func(int) string { return "[a]\nfile=a.img\n" }, ""), nil)...)
	add(listed("ini keys", doc("ini"), repeat("[a]\nfile=a.img\n", func(i int) string { return fmt.Sprintf("k%d=1\n", i) }, ""), nil)...)
	add(listed("xml elements", doc("xml"), repeat("<r>", func(int) string { return "<i file='a.img'/>" }, "</r>"), nil)...)
	add(listed("xml text in pieces", doc("xml"), repeat("<r><i file='a.img'>", func(int) string { return "a<!---->" }, "</i></r>"), nil)...)
	sum := fmt.Sprintf("%x", sha256.Sum256([]byte("\x01\x02\x03 an image")))
	wrong := strings.Repeat("ab", 32)
	for name, line := range map[string]func(int) string{"a list that holds": func(int) string { return sum + "  a.img\n" }, "a list that is wrong": func(int) string { return wrong + "  a.img\n" },
		"a list of absent files": func(i int) string { return fmt.Sprintf("%s  f%d\n", sum, i) }, "a list with lines nobody reads": func(int) string { return "?\n" }} {
		add(listed(name, doc("json"), []byte(`[{"file":"a.img","models":"QM-8T","component":"main"}]`), map[string][]byte{"SHA256SUMS": repeat(sum+"  a.img\n", line, "")})...)
	}
	notes := repeat("", func(int) string { return "Upgrade to 2.0.0 first, then 3.0.0.\n" }, "")
	plainKit := func(more map[string][]byte) map[string][]byte {
		out := map[string][]byte{"rulebooks/r.yaml": fmt.Appendf(nil, rules, lines), "devices/d.yaml": []byte(device)}
		for n, d := range more {
			out[n] = d
		}
		return out
	}
	add(text{"notes of one sentence over and over", plainKit(map[string][]byte{"packages/n.zip": zipped(map[string][]byte{"release-notes.txt": notes})}), []string{"notes", "n.zip"}})
	add(text{"notes in HTML, nested", plainKit(map[string][]byte{"packages/n.zip": zipped(map[string][]byte{"release-notes.html": repeat("<html>", func(int) string { return "<div>" }, "")})}), []string{"notes", "n.zip"}})
	capture := fmt.Sprintf(rules, lines) + "captures: [{recognise: 'Tramline', read: {model: '^Model: (\\S+)', serial: '^S: (\\S+)'}, each: {slots: '^Slot (?P<name>\\S+) (?P<main>\\S+)'}}]\n"
	for name, line := range map[string]func(int) string{"a capture of short lines": func(int) string { return "x\n" }, "a capture of one value over and over": func(int) string { return "Model: QM-8T\n" },
		"a capture of many values": func(i int) string { return fmt.Sprintf("S: %d\n", i) }, "a capture of many slots": func(i int) string { return fmt.Sprintf("Slot %d 1\n", i) }, "a capture of one line": func(int) string { return "Model: x " }} {
		add(text{name, map[string][]byte{"rulebooks/r.yaml": []byte(capture), "c.txt": repeat("Tramline\nModel: QM-8T\n", line, "")}, []string{"device", "c.txt"}})
	}
	inKit := func(d []byte, call ...string) (map[string][]byte, []string) {
		return map[string][]byte{"rulebooks/r.yaml": fmt.Appendf(nil, rules, lines), "devices/d.yaml": d, "packages/p.zip": zipped(map[string][]byte{"m.txt": []byte("[QM-8T]\nmain a.img 2\n"), "a.img": []byte("\x01\x02\x03 an image")})}, call
	}
	for name, d := range map[string][]byte{
		"a device of many members":           repeat("kind: device\nname: d\nmodel: QM-8T\nrevision: A2\ngroup: stack\nuniform: true\ninstalled: {main: '1'}\nmembers:\n", func(i int) string { return fmt.Sprintf("  - {name: m%d, revision: A1}\n", i) }, ""),
		"a device of many boards":            repeat(device+"boards: [", func(i int) string { return fmt.Sprintf("b%d,", i) }, "x]\n"),
		"a device of many attached":          repeat(device+"attached: [", func(i int) string { return fmt.Sprintf("b%d,", i) }, "x]\n"),
		"a device of many features":          repeat(device+"features: [", func(i int) string { return fmt.Sprintf("b%d,", i) }, "x]\n"),
		"a device of many slots":             repeat(device+"slots:\n", func(i int) string { return fmt.Sprintf("  - {name: s%d}\n", i) }, ""),
		"a device of many components":        repeat(strings.Replace(device, "{main: '1'}", "{main: '1'", 1)+"", func(i int) string { return fmt.Sprintf(", c%d: '1'", i) }, "}\n"),
		"a device file of unknown keys":      repeat(device, func(i int) string { return fmt.Sprintf("k%d: 1\n", i) }, ""),
		"a device file of one key too often": repeat(device, func(int) string { return "arch: arm\n" }, ""),
	} {
		d = bytes.Replace(d, []byte("installed: {main: '1'\n,"), []byte("installed: {main: '1',"), 1)
		kit, call := inKit(d, "match", "-json", "-device", "d", "p.zip")
		add(text{name + ", match", kit, call})
		add(text{name + ", path", kit, []string{"path", "-json", "-device", "d", "-to", "2"}})
		add(text{name + ", device", kit, []string{"device", "-json", "d"}})
	}
	book := func(tail []byte) map[string][]byte {
		return map[string][]byte{"rulebooks/r.yaml": tail, "devices/d.yaml": []byte(device)}
	}
	base := fmt.Sprintf(rules, lines)
	noReleases := strings.Replace(base, "releases: [{version: \"2\", families: [f]}, {version: \"1\", families: [f]}]\n", "", 1)
	for name, d := range map[string][]byte{
		"a range of many alternatives":   repeat(strings.Replace(base, "hops: {upward: open}\n", "hops:\n  upward: open\n  rules:\n    - {allow: false, from: '", 1), func(i int) string { return fmt.Sprintf("%d || ", i+7) }, "0'}\n"),
		"a range of many bounds":         repeat(strings.Replace(base, "hops: {upward: open}\n", "hops:\n  upward: open\n  rules:\n    - {allow: false, from: '", 1), func(i int) string { return fmt.Sprintf(">%d ", i+7) }, "'}\n"),
		"many releases":                  repeat(noReleases+"releases:\n", func(i int) string { return fmt.Sprintf("  - {version: \"%d\"}\n", i) }, ""),
		"many rules":                     repeat(strings.Replace(base, "hops: {upward: open}\n", "hops:\n  upward: open\n  rules:\n", 1), func(i int) string { return fmt.Sprintf("    - {from: \"%d\", allow: true}\n", i) }, ""),
		"many models":                    repeat("kind: rulebook\ntitle: T\nmodels:\n", func(i int) string { return fmt.Sprintf("  M%d: {}\n", i) }, ""),
		"many models of one board":       repeat("kind: rulebook\ntitle: T\nmodels:\n", func(i int) string { return fmt.Sprintf("  M%d: {boards: [b]}\n", i) }, ""),
		"many revisions":                 repeat("kind: rulebook\ntitle: T\nmodels: {M: {revisions: {", func(i int) string { return fmt.Sprintf("A%d: {}, ", i) }, "Z: {}}}}\n"),
		"many packages":                  repeat("kind: rulebook\ntitle: T\npackages:\n", func(i int) string { return fmt.Sprintf("  - {title: t, file: '^a%d$'}\n", i) }, ""),
		"many sources":                   repeat("kind: rulebook\ntitle: T\nsources:\n", func(i int) string { return fmt.Sprintf("  S%d: x\n", i) }, ""),
		"many families":                  repeat("kind: rulebook\ntitle: T\nfamilies:\n", func(i int) string { return fmt.Sprintf("  f%d: {components: {main: {}}}\n", i) }, ""),
		"many drops":                     repeat(noReleases+"releases: [{version: '2', drops: [", func(i int) string { return fmt.Sprintf("D%d,", i) }, "x]}]\n"),
		"many needs":                     repeat(noReleases+"releases:\n  - version: '2'\n    needs:\n", func(i int) string { return fmt.Sprintf("      - {component: boot, within: '>=%d'}\n", i) }, ""),
		"a rulebook of aliases":          []byte(base + "sources: &a {x: y}\n"),
		"a rulebook of nested lists":     repeat("kind: rulebook\ntitle: ", func(int) string { return "[" }, ""),
		"a rulebook of unknown keys":     repeat(base, func(i int) string { return fmt.Sprintf("k%d: 1\n", i) }, ""),
		"a pattern of many alternatives": repeat("kind: rulebook\ntitle: T\npackages: [{title: t, file: '^(?:", func(i int) string { return fmt.Sprintf("a%d|", i) }, "x)$'}]\n"),
	} {
		add(text{name + ", check", book(d), []string{"rulebook", "check", "rulebooks/r.yaml"}})
		add(text{name + ", path", book(d), []string{"path", "-json", "-device", "d", "-to", "2"}})
	}
	return out
}

type result struct {
	text   text
	cpu    time.Duration
	kib    int64
	status int
	over   bool
}

func main() {
	only := flag.String("only", "", "measure only texts whose name holds this `PART`")
	flag.Parse()
	dir, err := os.MkdirTemp("", "texts-")
	check(err)
	defer os.RemoveAll(dir)
	bin := filepath.Join(dir, "fitcheck")
	build := exec.Command("go", "build", "-o", bin, "./cmd/fitcheck")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	build.Stderr = os.Stderr
	check(build.Run())
	var all []result
	for i, t := range texts() {
		if !strings.Contains(t.name, *only) {
			continue
		}
		kit := filepath.Join(dir, fmt.Sprint(i))
		for name, data := range t.files {
			p := filepath.Join(kit, name)
			check(os.MkdirAll(filepath.Dir(p), 0o755))
			check(os.WriteFile(p, data, 0o644))
		}
		// A limit on memory and time, so that what is out of bounds stops.
		cmd := exec.Command("sh", append([]string{"-c", `ulimit -t 20; exec "$@"`, "sh", bin}, append(t.call, "-q")...)...)
		cmd.Dir = kit
		cmd.Env = append(os.Environ(), "GOMEMLIMIT=off")
		err := cmd.Run()
		r := result{text: t}
		if cmd.ProcessState == nil {
			check(err)
		}
		r.status = cmd.ProcessState.ExitCode()
		r.cpu = cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()
		r.kib = cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss
		r.over = r.cpu > 2*time.Second || r.kib > 256<<10 || r.status < 0
		all = append(all, r)
		fmt.Fprintf(os.Stderr, "%6.2f s %5d MiB  exit %2d  %s\n", r.cpu.Seconds(), r.kib>>10, r.status, t.name)
		os.RemoveAll(kit)
	}
	sort.Slice(all, func(i, j int) bool { return worse(all[i]) > worse(all[j]) })
	fmt.Println("| text, command | CPU seconds | MiB | exit |\n|---|---|---|---|")
	over := 0
	for _, r := range all {
		mark := ""
		if r.over {
			over++
			mark = " **over**"
		}
		fmt.Printf("| %s%s | %.2f | %d | %d |\n", r.text.name, mark, r.cpu.Seconds(), r.kib>>10, r.status)
	}
	fmt.Fprintf(os.Stderr, "%d texts, %d over 2 CPU-seconds or 256 MiB\n", len(all), over)
}

// worse is how near a result is to the bounds.
func worse(r result) float64 { return max(r.cpu.Seconds()/2, float64(r.kib)/(256<<10)) }

func check(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
