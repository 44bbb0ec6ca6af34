package draft

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"strings"

	"fitcheck/demo"
)

// product is a line of products as somebody would describe it, and what is made of it: packages,
// notes and captures, each in one of many forms.
type product struct {
	models   []productModel
	releases []string // oldest first
	boots    []string // boot loader that each brings
	// Of the last release: from before stop one has to go there first; bootNeed is the least boot
	// loader, of which an older release brings an older one.
	stop      string
	bootNeed  string
	withdrawn string
	form      string // of the manifest: xml ini csv lines json names
	r         *rand.Rand
	words     map[string]int // the wording that was picked
}

type productModel struct {
	name      string // as manifests write it
	shown     string // as the device writes itself
	revisions []productRevision
}

type productRevision struct {
	name string
	arch string
}

var archCodes = map[string]byte{"arm": 2, "arm64": 22, "mips": 5, "ppc": 7}

// styles are ways in which versions are written: the n-th release of a line.
var styles = map[string]func(n int) string{
	"build":    func(n int) string { return fmt.Sprintf("R%d.%d-b%d", 12+n/3, 1+n%3*3, 600+31*n) },
	"letters":  func(n int) string { return fmt.Sprintf("8.%d.%d%c", 4+n/3, n%3, 'a'+rune(n)) },
	"date":     func(n int) string { return fmt.Sprintf("2026.%02d.%02d", 1+2*n, 3+n) },
	"brackets": func(n int) string { return fmt.Sprintf("3.%d(%d)E%d", 1+n, 2+n, 4+n) },
	"plain":    func(n int) string { return fmt.Sprintf("%d.%d.%d", 5+n/2, 9+n, n) },
	"words":    func(n int) string { return fmt.Sprintf("4.%d.0 build %d", n+1, 100+7*n) },
	"run":      func(n int) string { return fmt.Sprintf("2026%02d%02d", 1+2*n, 3+n) },
}

// invent makes up a line.
func invent(r *rand.Rand, form, style string) *product {
	p := &product{form: form, r: r, words: map[string]int{}}
	stem := []string{"KX", "Ostler", "PW", "NB", "Lark"}[r.IntN(5)]
	archs := []string{"arm", "arm64", "mips", "ppc"}
	r.Shuffle(len(archs), func(i, k int) { archs[i], archs[k] = archs[k], archs[i] })
	revs := [][]string{{"A1", "B1"}, {"A", "B"}, {"r1", "r2"}, {"C2", "C3"}}[r.IntN(4)]
	hyphen := []string{"-", ""}[r.IntN(2)] // how the device writes itself
	for i := range 2 {
		n := 2 + 3*i + r.IntN(2)
		m := productModel{name: fmt.Sprintf("%s-%d", stem, n), shown: fmt.Sprintf("%s%s%d", stem, hyphen, n)}
		if i == 0 {
			m.revisions = []productRevision{{revs[0], archs[0]}, {revs[1], archs[1]}}
		} else {
			m.revisions = []productRevision{{revs[0], archs[2]}}
		}
		p.models = append(p.models, m)
	}
	for n := range 5 {
		p.releases = append(p.releases, styles[style](n))
		boot := "1.0.4"
		if n >= 2 {
			boot = "2.1.0"
		}
		p.boots = append(p.boots, boot)
	}
	p.stop, p.bootNeed = p.releases[2], "2.1.0"
	if r.IntN(2) == 0 {
		p.withdrawn = p.releases[3]
	}
	return p
}

func (p *product) pick(of ...string) string { return of[p.r.IntN(len(of))] }

// at is the release that was the last one when packages were downloaded.
func (p *product) last() string { return p.releases[4] }

type productFile struct {
	name             string
	role, model, rev string
	arch, version    string
	data             []byte
}

// files are the images of a release.
func (p *product) files(n int) []productFile {
	var out []productFile
	for _, m := range p.models {
		lower := strings.ToLower(m.name)
		for _, rev := range m.revisions {
			name := fmt.Sprintf("%s_%s.img", lower, strings.ToLower(rev.name))
			out = append(out, productFile{name, "main", m.name, rev.name, rev.arch, p.releases[n], p.image(m.name, p.releases[n], rev.arch, false)})
			if p.form != "names" {
				out = append(out, productFile{fmt.Sprintf("ldr/%s_%s_boot.bin", lower, strings.ToLower(rev.name)), "boot", m.name, rev.name, rev.arch, p.boots[n], p.image(m.name, p.boots[n], rev.arch, true)})
			}
		}
	}
	return out
}

func (p *product) image(model, version, arch string, boot bool) []byte {
	r := rand.New(rand.NewChaCha8(sha256.Sum256([]byte(model + version + arch))))
	payload := make([]byte, 3000)
	for i := range payload {
		payload[i] = byte(r.Uint32())
	}
	kind, os := byte(2), byte(5)
	if boot {
		kind, os = 5, 17
	}
	return demo.UImage(os, archCodes[arch], kind, "image "+version, payload)
}

// pack makes the package of a release: its name, and the file.
func (p *product) pack(n int) (name string, data []byte) {
	files := p.files(n)
	flat := strings.NewReplacer(" build ", "b", " ", "").Replace(p.releases[n])
	if p.form == "names" { // one image alone: that of the first model
		return fmt.Sprintf("%s-%s.img", strings.ToLower(p.models[0].name), flat), files[0].data
	}
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	add := func(name string, data []byte) {
		f, _ := w.Create(name)
		_, _ = f.Write(data)
	}
	dir := ""
	if p.choice("folder", "yes", "no") == "yes" {
		dir = strings.ToLower(strings.Trim(p.models[0].name, "-0123456789")) + "-" + flat + "/"
	}
	text, as := p.manifest(n, files)
	add(dir+as, []byte(text))
	if p.choice("notes inside", "yes", "no") == "yes" {
		add(dir+"RELEASE-NOTES.txt", []byte(fmt.Sprintf("Notes for %s\n\nReleased 2026-09-%02d.\n\nFixed: many things.\n", p.releases[n], 10+n)))
	}
	for _, f := range files {
		add(dir+f.name, f.data)
	}
	_ = w.Close()
	return fmt.Sprintf("%s_%s.zip", strings.ToLower(strings.Trim(p.models[0].name, "-0123456789")), flat), b.Bytes()
}

// choice picks one of several for a whole line: its packages are alike.
func (p *product) choice(key string, of ...string) string {
	if _, ok := p.words[key]; !ok {
		p.words[key] = p.r.IntN(len(of))
	}
	return of[p.words[key]%len(of)]
}

func sha(data []byte) string { return fmt.Sprintf("%x", sha256.Sum256(data)) }

// manifest writes the list of a package in the form of the line.
func (p *product) manifest(n int, files []productFile) (text, name string) {
	var b strings.Builder
	f := func(format string, args ...any) { fmt.Fprintf(&b, format, args...) }
	main, boot := p.choice("main", "main", "system", "firmware", "os"), p.choice("boot", "boot", "bootloader", "loader")
	role := map[string]string{"main": main, "boot": boot}
	key := func(what string, of ...string) string { return p.choice("key "+what, of...) }
	switch p.form {
	case "xml":
		outer, group, item := key("outer", "release", "firmware", "package"), key("group", "target", "platform", "hardware"), key("item", "image", "file", "part")
		f("<?xml version=\"1.0\"?>\n<%s version=\"%s\" date=\"2026-09-30\">\n", outer, p.releases[n])
		for _, m := range p.models {
			for _, rev := range m.revisions {
				f("  <%s %s=\"%s\" %s=\"%s\">\n", group, key("model", "model", "product", "for"), m.name, key("rev", "rev", "hw", "revision"), rev.name)
				for _, x := range files {
					if x.model == m.name && x.rev == rev.name {
						f("    <%s %s=\"%s\" version=\"%s\" %s=\"%s\" sha256=\"%s\">%s</%s>\n", item, key("role", "role", "type", "kind"), role[x.role], x.version, key("path", "path", "href", "src"), x.name, sha(x.data), x.role, item)
					}
				}
				f("  </%s>\n", group)
			}
		}
		f("</%s>\n", outer)
		return b.String(), "release.xml"
	case "ini":
		f("[release]\nversion = %s\n\n", p.releases[n])
		for i, x := range files {
			section := x.name
			if key("section", "file", "number") == "number" {
				section = fmt.Sprintf("image%d", i+1)
			}
			f("[%s]\n", section)
			if section != x.name {
				f("%s = %s\n", key("file", "file", "filename", "path"), x.name)
			}
			f("%s = %s\n%s = %s\n%s = %s\nver = %s\nsize = %d\nsha256 = %s\n\n", key("role", "role", "type"), role[x.role], key("model", "model", "product"), x.model, key("rev", "rev", "hw", "board"), x.rev, x.version, len(x.data), sha(x.data))
		}
		return b.String(), "contents.ini"
	case "csv":
		sep := key("sep", ",", ";")
		f("%s\n", strings.Join([]string{key("file", "File", "Name", "Image"), key("role", "Component", "Role", "Part"), key("model", "Model", "Product"), key("rev", "HW rev", "Revision"), "Version", "SHA-256"}, sep))
		for _, x := range files {
			f("%s\n", strings.Join([]string{x.name, role[x.role], x.model, x.rev, x.version, sha(x.data)}, sep))
		}
		return b.String(), "index.csv"
	case "lines":
		if key("pre", "yes", "no") == "yes" {
			f("Release %s\n", p.releases[n])
		}
		for _, m := range p.models {
			f("%s\n", fmt.Sprintf(key("heading", "[%s]", "== %s ==", "Model: %s", "for %s:"), m.name))
			for _, x := range files {
				if x.model != m.name {
					continue
				}
				version := strings.ReplaceAll(x.version, " build ", "b")
				switch key("record", "blanks", "bars", "keys") {
				case "blanks":
					f("%s %s %s rev=%s sha256=%s\n", role[x.role], x.name, version, x.rev, sha(x.data))
				case "bars":
					f("%s | %s | %s | %s | %s\n", x.name, role[x.role], x.version, x.rev, sha(x.data))
				default:
					f("file=%s part=%s ver=%s hw=%s sha256=%s\n", x.name, role[x.role], version, x.rev, sha(x.data))
				}
			}
		}
		return b.String(), "MANIFEST"
	}
	if p.form == "yaml" {
		f("# what is inside\n%s: '%s'\nplatforms:\n", key("ver", "version", "release"), p.releases[n])
		for _, m := range p.models {
			f("  %s:\n    %s: %s\n    %s:\n", strings.ToLower(strings.ReplaceAll(m.name, "-", "")), key("model", "model", "product"), m.name, key("images", "images", "files"))
			for _, x := range files {
				if x.model == m.name {
					f("      - {%s: '%s', %s: %s, %s: [%s], version: '%s', size: %d, sha256: %s}\n", key("file", "file", "path"), x.name, key("role", "role", "use"), role[x.role], key("rev", "revisions", "hw"), x.rev, x.version, len(x.data), sha(x.data))
				}
			}
		}
		return b.String(), "release.yml"
	}
	f("{\"%s\": \"%s\", \"%s\": [\n", key("ver", "version", "release"), p.releases[n], key("images", "images", "files", "contents"))
	for i, x := range files {
		comma := ","
		if i == len(files)-1 {
			comma = ""
		}
		f(" {\"%s\": \"%s\", \"%s\": \"%s\", \"%s\": [\"%s\"], \"%s\": \"%s\", \"version\": \"%s\", \"hash\": {\"sha256\": \"%s\"}}%s\n", key("file", "file", "path", "name"), x.name, key("role", "role", "component", "type"), role[x.role], key("model", "models", "product", "devices"), x.model, key("rev", "revisions", "hw", "boardRev"), x.rev, x.version, sha(x.data), comma)
	}
	f("]}\n")
	return b.String(), "release.json"
}

// notes are those of the last release.
func (p *product) notes() string {
	var b strings.Builder
	f := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	f("%s", fmt.Sprintf(p.pick("Release notes %s", "Notes for release %s", "%s - what is new"), p.last()))
	f("\nReleased 2026-09-30.\n")
	f(p.pick("Devices on releases before %s must be upgraded to %[1]s first.", "Upgrades from releases older than %s have to go through %[1]s.", "If the device runs a release below %s, install %[1]s first.", "Units running anything earlier than %s need to go by way of %[1]s."), p.stop)
	f("")
	if p.form != "names" {
		f(p.pick("The boot loader must be %s or later.", "Requires boot loader %s or newer.", "Minimum boot loader version: %s.", "At least boot loader %s is required."), p.bootNeed)
		f("")
	}
	f("%s", p.pick("Downgrading is not supported.", "A downgrade to older releases is not possible.", "It is not possible to go back to an earlier release."))
	f("")
	if p.withdrawn != "" {
		f(p.pick("Release %s was withdrawn because ports flap after a cold start.", "%s has been withdrawn: ports flap after a cold start.", "Release %s has been recalled."), p.withdrawn)
		f("")
	}
	f("%s", p.pick("The installation takes about 12 minutes, of which 8 minutes are without service.", "Allow 12 minutes for the upgrade; service is interrupted for 8 minutes."))
	f("\nFixed: a memory leak in the web page.")
	return b.String()
}

// capture is the console output of a device.
func (p *product) capture(m productModel, rev productRevision, release, boot string) string {
	var b strings.Builder
	style := p.choice("capture", "colon", "dots", "wide", "below")
	line := func(label, value string) {
		switch style {
		case "colon":
			fmt.Fprintf(&b, "%-18s: %s\n", label, value)
		case "below":
			fmt.Fprintf(&b, "%s:\n    %s\n", label, value)
		case "dots":
			fmt.Fprintf(&b, "%s %s %s\n", label, strings.Repeat(".", 24-len(label)), value)
		default:
			fmt.Fprintf(&b, "%-24s%s\n", label, value)
		}
	}
	b.WriteString("depot-3> " + p.choice("command", "show platform", "display version", "info") + "\n")
	b.WriteString(p.choice("banner", "Harrier switching software", "Plover OS, made by nobody") + "\n\n")
	line(p.choice("label model", "Platform", "Product name", "Model"), m.shown+p.choice("behind", "", " (fanless)"))
	line(p.choice("label rev", "HW revision", "Board rev", "Hardware version"), rev.name)
	line(p.choice("label serial", "Serial no", "Serial number", "S/N"), "88-0113")
	line(p.choice("label main", "Software", "Firmware version", "Running"), p.choice("before", "", "Plover ")+release)
	if p.form != "names" {
		line(p.choice("label boot", "Boot loader", "Bootrom", "Boot version"), boot)
	}
	line("Uptime", "12 days, 3 hours")
	b.WriteString("depot-3>\n")
	return b.String()
}
