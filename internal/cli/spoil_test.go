package cli

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/ed25519"
	"crypto/md5"
	"crypto/sha256"
	"crypto/x509"
	"encoding/binary"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
	"fitcheck/core/member"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
	"fitcheck/core/sign"
	"fitcheck/core/survey"
	y "fitcheck/core/yamlfile"
	"fitcheck/demo"
	"fitcheck/internal/pagetest"
)

// A case is a device, a rulebook and a package that fit each other, with the captures
// of the night that goes well. Everything in it can be spoilt.
type spoilt struct {
	kind     string // single, stack or pair
	rules    string
	device   string
	records  []string // of the manifest
	heading  string
	images   map[string][]byte
	name     string // of the package, without the ending of its archive
	archive  string // zip, tgz or folder
	sums     bool
	badSum   bool
	badSign  bool
	mute     bool   // the manifest gives no digests
	md5      bool   // it gives only weak ones
	cut      bool   // half of the archive is missing
	page     string // what is there instead of an archive
	capture  string
	noRules  bool
	inKit    bool // the kit holds the package as it was before it was spoilt
	crlf     bool
	comments bool
	console  bool     // the capture has the line ends of a terminal
	flags    []string // of match, stage and runbook
	folder   string   // within the archive
}

const spoilRules = `kind: rulebook
title: Quillmere
models:
  QM-8T:
    also: [QM8T]
    families: [tram]
    revisions:
      A1: {arch: arm,   boards: ["quillmere,qm8t-a"], slot: 64KiB, memory: 256MiB}
      A2: {arch: arm,   boards: ["quillmere,qm8t-a"], slot: 64KiB, memory: 256MiB}
      B1: {arch: arm64, boards: ["quillmere,qm8t-b"], slot: 64KiB, memory: 256MiB}
  QM-9T: {families: [tram], arch: arm, boards: ["quillmere,qm9t"], slot: 64KiB}
  VC-40: {families: [duo], arch: arm, boards: ["velloway,vc40"]}
  VR-210: {}
  VR-310: {}
families:
  tram: {components: {boot: {optional: true}, main: {slotted: true}}}
  duo: {components: {loader: {}, system: {}}, paired: [[loader, system]]}
versions:
  default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)(?:-(?P<build>\d+))?$', order: [a, b, c, build]}
packages:
  - title: bundle
    file: '^(?:old-)?qm-(?P<version>[\d.]+?)(?:\.zip|\.tgz)?$'
    handling: unpacked
    manifest: {item: '**/m.txt', form: lines, heading: '^\[(?P<models>[^\]]+)\]$',
               record: '^(?P<component>\w+)\s+(?P<file>\S+)\s+(?P<version>\S+)(?:\s+revs=(?P<revisions>\S+))?(?:\s+boards=(?P<boards>\S+))?(?:\s+fam=(?P<family>\S+))?(?:\s+region=(?P<region>\S+))?(?:\s+plat=(?P<platform>\S+))?(?:\s+feat=(?P<feature>\S+))?(?:\s+hyp=(?P<hypervisor>\S+))?(?:\s+(?:sha256=(?P<sha256>\S+)|md5=(?P<md5>\S+)))?$'}
    signature: {item: '**/m.sig', of: manifest, key: maker.pem}
    items:
      - {match: '**/*.boot', component: boot}
      - {match: '**/*.img', component: main, title: '^(?P<model>QM\S+) (?P<version>\S+)$'}
releases:
  - version: 8.4.2
    date: 2026-09-30
    families: [tram]
    brings: {boot: 3.2.0}
    needs:
      - {component: boot, within: ">=3.1.0 <4.0.0"}
      - {component: main, within: ">=8.2.0"}
      - {companion: controller, within: ">5.1"}
      - {storage_free: 1MiB}
      - {memory: 256MiB}
      - {feature: vpn}
      - {attached: VR-310}
    drops: [VR-210]
    minutes: {install: 12, outage: 8}
  - {version: 8.2.1, families: [tram], brings: {boot: 3.1.4}}
  - {version: 2.4.1, families: [duo], brings: {loader: 2.4.1, system: 2.4.1}}
  - {version: 2.4.0, families: [duo], brings: {loader: 2.4.0, system: 2.4.0}}
hops:
  upward: open
  downward: closed
  rules:
    - {from: "<8.0.0", to: ">=8.2.0", allow: false, models: [QM-8T, QM-9T]}
transfer: {protocol: tftp, largest: 1MiB, longest_name: 63}
captures:
  - recognise: '^Tramline OS'
    member: '^Member (\S+)'
    read:
      name:           '^Name\s*:\s*(\S+)'
      model:          '^Model\s*:\s*(\S+)'
      revision:       '^Board rev\s*:\s*(\S+)'
      serial:         '^Serial\s*:\s*(\S+)'
      region:         '^Region\s*:\s*(\S+)'
      installed.boot: '^Boot loader\s*:\s*(\S+)'
      installed.main: '^Running\s*:\s*(\S+)'
      installed.loader: '^Loader\s*:\s*(\S+)'
      installed.system: '^System\s*:\s*(\S+)'
      config.saved:   '^Settings saved\s*:\s*(\S+)'
    each:
      slots: '^Slot (?P<name>[AB])\s+(?P<main>\S+)(?P<active>\s+\*)?'
      attached: '^Radio (?P<model>\S+)'
recovery:
  - models: [QM-8T]
    signs: {ping_ttl: 200}
    accepts: {formats: [uimage], components: [main], largest: 60KiB}
`

const spoilDevice = `model: QM-8T
revision: A2
serial: "0417-221"
region: EU
hypervisor: xen
platform: physical
features: [vpn]
installed: {boot: 3.1.4, main: 8.2.1}
slots:
  - {name: A, main: 8.2.1, active: true}
  - {name: B, main: 8.2.1}
storage_free: 4MiB
memory: 256MiB
companions: {controller: 5.2.0}
attached: [VR-310, VR-310]
entitled_until: 2027-03-31
`

func spoilImage(arch byte, kind byte, title string, n int) []byte {
	return demo.UImage(5, arch, kind, title, bytes.Repeat([]byte(title+"\x00"), n/(len(title)+1)+1)[:n])
}

// sound makes a case that fits.
func sound(r *rand.Rand) *spoilt {
	c := &spoilt{rules: spoilRules, name: "qm-8.4.2", archive: "zip", folder: "qm-8.4.2", heading: "QM-8T", sums: r.IntN(2) == 0}
	const rest = " fam=tram region=EU plat=physical feat=vpn hyp=xen"
	c.records = []string{"boot l.boot 3.2.0 revs=A1,A2 boards=quillmere,qm8t-a" + rest, "main a.img 8.4.2 revs=A1-A2 boards=quillmere,qm8t-a" + rest}
	c.images = map[string][]byte{"l.boot": spoilImage(2, 5, "loader", 300), "a.img": spoilImage(2, 2, "QM-8T 8.4.2", 900)}
	c.device = "kind: device\nname: cab\n" + spoilDevice
	c.capture = "Tramline OS\nName: cab\nModel: QM-8T\nBoard rev: A2\nSerial: 0417-221\nRegion: EU\nBoot loader: 3.2.0\nRunning: 8.4.2\nSettings saved: yes\nSlot A 8.2.1\nSlot B 8.4.2 *\nRadio VR-310\nRadio VR-310\n"
	switch r.IntN(3) {
	case 0:
		c.kind = "single"
	case 1:
		c.kind = "stack"
		c.device = "kind: device\nname: depot\n" + strings.Replace(spoilDevice, "revision: A2\nserial: \"0417-221\"\n", "", 1) + "group: stack\nuniform: true\nmembers:\n  - {name: one, revision: A2, serial: S1}\n  - {name: two, revision: B1, serial: S2}\n"
		c.records = append(c.records, "boot b.boot 3.2.0 revs=B1 boards=quillmere,qm8t-b"+rest, "main b.img 8.4.2 revs=B1 boards=quillmere,qm8t-b"+rest)
		c.images["b.boot"], c.images["b.img"] = spoilImage(22, 5, "loader", 300), spoilImage(22, 2, "QM-8T 8.4.2", 900)
		body := func(serial, rev string) string {
			return "Model: QM-8T\nBoard rev: " + rev + "\nSerial: " + serial + "\nRegion: EU\nBoot loader: 3.2.0\nRunning: 8.4.2\nSettings saved: yes\nSlot A 8.2.1\nSlot B 8.4.2 *\nRadio VR-310\nRadio VR-310\n"
		}
		c.capture = "Tramline OS\nMember one\n" + body("S1", "A2") + "Member two\n" + body("S2", "B1")
	default:
		c.kind = "pair"
		c.name, c.folder, c.heading = "qm-2.4.1", "qm-2.4.1", "VC-40"
		c.records = []string{"loader loader.bin 2.4.1 boards=velloway,vc40", "system system.bin 2.4.1 boards=velloway,vc40"}
		c.images = map[string][]byte{"loader.bin": spoilImage(2, 5, "VC-40 loader", 300), "system.bin": spoilImage(2, 2, "VC-40 system", 900)}
		c.device = "kind: device\nname: cab\nmodel: VC-40\nserial: \"77\"\ninstalled: {loader: 2.4.0, system: 2.4.0}\n"
		c.capture = "Tramline OS\nName: cab\nModel: VC-40\nSerial: 77\nLoader: 2.4.1\nSystem: 2.4.1\nSettings saved: yes\n"
	}
	return c
}

// to is the release that the package stands for.
func (c *spoilt) to() string {
	if c.kind == "pair" {
		return "2.4.1"
	}
	return "8.4.2"
}

var makerKey = ed25519.NewKeyFromSeed([]byte(strings.Repeat("k", 32)))

func (c *spoilt) clone() *spoilt {
	out := *c
	out.records, out.images, out.flags = slices.Clone(c.records), maps.Clone(c.images), slices.Clone(c.flags)
	return &out
}

// text is a file that people write.
func (c *spoilt) text(t string) []byte {
	if c.comments {
		t = strings.Replace(t, "\n", "\n# as of this morning\n\n", 1) + "\n# the end\n"
	}
	if c.crlf {
		t = strings.ReplaceAll(t, "\n", "\r\n")
	}
	return []byte(t)
}

// files are those of the package.
func (c *spoilt) files() map[string][]byte {
	m := "[" + c.heading + "]\n"
	for _, l := range c.records {
		if f := strings.Fields(l); len(f) > 1 && c.images[f[1]] != nil && !c.mute {
			if c.md5 {
				l += fmt.Sprintf(" md5=%x", md5.Sum(c.images[f[1]]))
			} else {
				l += fmt.Sprintf(" sha256=%x", sha256.Sum256(c.images[f[1]]))
			}
		}
		m += l + "\n"
	}
	if c.comments {
		m = "# made by the maker\n\n" + m
	}
	if c.crlf {
		m = strings.ReplaceAll(m, "\n", "\r\n")
	}
	out := map[string][]byte{"m.txt": []byte(m), "m.sig": ed25519.Sign(makerKey, []byte(m)), "readme.txt": []byte("Read the notes first.\n")}
	if c.badSign {
		out["m.sig"] = ed25519.Sign(makerKey, []byte("something else"))
	}
	maps.Copy(out, c.images)
	if c.sums {
		var b strings.Builder
		for _, n := range slices.Sorted(maps.Keys(c.images)) {
			sum := sha256.Sum256(c.images[n])
			if c.badSum {
				sum[3] ^= 1
			}
			fmt.Fprintf(&b, "%x  %s\n", sum, n)
		}
		out["SUMS"] = []byte(b.String())
	}
	return out
}

// pack writes the package, and gives its path.
func (c *spoilt) pack(t *testing.T, dir string, r *rand.Rand) string {
	all := c.files()
	names := slices.Sorted(maps.Keys(all))
	r.Shuffle(len(names), func(i, k int) { names[i], names[k] = names[k], names[i] })
	var b bytes.Buffer
	path := filepath.Join(dir, c.name+"."+c.archive)
	switch c.archive {
	case "zip":
		w := zip.NewWriter(&b)
		for _, n := range names {
			e, err := w.Create(c.folder + "/" + n)
			require.NoError(t, err)
			_, _ = e.Write(all[n])
		}
		require.NoError(t, w.Close())
	case "tgz":
		g := gzip.NewWriter(&b)
		w := tar.NewWriter(g)
		for _, n := range names {
			require.NoError(t, w.WriteHeader(&tar.Header{Name: c.folder + "/" + n, Mode: 0o644, Size: int64(len(all[n]))}))
			_, _ = w.Write(all[n])
		}
		require.NoError(t, w.Close())
		require.NoError(t, g.Close())
	default:
		path = filepath.Join(dir, c.name)
		require.NoError(t, os.MkdirAll(path, 0o755))
		if c.archive == "nothing" {
			return path
		}
		for _, n := range names {
			put(t, filepath.Join(path, n), all[n])
		}
		return path
	}
	data := b.Bytes()
	if c.cut {
		data = data[:len(data)*3/5]
	}
	if c.page != "" {
		data = []byte(c.page)
	}
	put(t, path, data)
	return path
}

func put(t *testing.T, path string, data []byte) {
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, data, 0o644))
}

// night is a case laid out in a folder.
type night struct {
	t    *testing.T
	dir  string
	c    *spoilt
	pkg  string
	runs map[string]int // exit status of each command
	out  map[string]string
}

func (c *spoilt) lay(t *testing.T, r *rand.Rand, before *spoilt) *night {
	n := &night{t: t, dir: t.TempDir(), c: c, runs: map[string]int{}, out: map[string]string{}}
	if !c.noRules {
		put(t, filepath.Join(n.dir, "rulebooks/qm.yaml"), c.text(c.rules))
	}
	der, err := x509.MarshalPKIXPublicKey(makerKey.Public())
	require.NoError(t, err)
	put(t, filepath.Join(n.dir, "keys/maker.pem"), pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
	put(t, filepath.Join(n.dir, "devices/d.yaml"), c.text(c.device))
	dead := strings.Replace(c.device, "name: cab\n", "name: cab\nstate: boot-loader\n", 1)
	put(t, filepath.Join(n.dir, "devices/dead.yaml"), c.text(dead))
	capture := c.capture
	if c.console {
		capture = strings.ReplaceAll(capture, "\n", "\r\n")
	}
	put(t, filepath.Join(n.dir, "after.txt"), []byte(capture))
	n.pkg = c.pack(t, filepath.Join(n.dir, "given"), r)
	if c.inKit {
		before.pack(t, filepath.Join(n.dir, "packages"), r)
	}
	return n
}

// run runs one of the commands, once.
func (n *night) run(command string) int {
	if s, ok := n.runs[command]; ok {
		return s
	}
	args := map[string][]string{
		"match":   append([]string{"match", "-others=false", "-device", "d", n.pkg}, n.c.flags...),
		"path":    {"path", "-device", "d", "-to", n.c.to()},
		"stage":   append([]string{"stage", "-device", "d", "-into", filepath.Join(n.dir, "served"), n.pkg}, n.c.stageFlags()...),
		"runbook": append([]string{"runbook", "-device", "d", n.pkg}, n.c.stageFlags()...),
		"confirm": {"confirm", "-device", "d", "-to", n.c.to(), "-after", filepath.Join(n.dir, "after.txt")},
		"recover": {"recover", "-device", "dead", n.pkg},
	}[command]
	var out, errout bytes.Buffer
	s := Run(context.Background(), append(args, "-kit", n.dir, "-json"), Env{Stdout: &out, Stderr: &errout})
	require.NotContains(n.t, errout.String(), "fault of the program")
	require.True(n.t, json.Valid(out.Bytes()), "%s: %s", command, out.String())
	n.runs[command], n.out[command] = s, out.String()
	return s
}

func (c *spoilt) stageFlags() []string {
	return slices.DeleteFunc(slices.Clone(c.flags), func(f string) bool { return f == "-trust-names" || f == "-quick" })
}

// spoil is a way to spoil a case.
type spoil struct {
	check  string // what it is about, of the registered checks
	clause string // of what nothing may pass
	on     string // the first letters of the commands that may no longer say yes: m p s r c v (recover)
	kinds  string // single stack pair; "" is all but the pair
	do     func(c *spoilt) bool
}

const (
	everyone = "mpsr"  // all that judge an install
	byImage  = "msrv"  // all that judge the image
	byPkg    = "msr"   // all that judge an install by its package
	all      = "mpsrv" // whatever asks for the release
)

func in(text *string, pairs ...string) bool {
	ok := false
	for i := 0; i+1 < len(pairs); i += 2 {
		if strings.Contains(*text, pairs[i]) {
			*text, ok = strings.Replace(*text, pairs[i], pairs[i+1], 1), true
		}
	}
	return ok
}

func rule(pairs ...string) func(*spoilt) bool {
	return func(c *spoilt) bool { return in(&c.rules, pairs...) }
}

func dev(pairs ...string) func(*spoilt) bool {
	return func(c *spoilt) bool { return in(&c.device, pairs...) }
}

func capt(pairs ...string) func(*spoilt) bool {
	return func(c *spoilt) bool { return in(&c.capture, pairs...) }
}

// rec changes every record of the manifest.
func rec(old, new string) func(*spoilt) bool {
	return func(c *spoilt) bool {
		ok := false
		for i := range c.records {
			ok = in(&c.records[i], old, new) || ok
		}
		return ok
	}
}

// guess marks a value of the device file as a guess.
func guess(key string) func(*spoilt) bool {
	return func(c *spoilt) bool {
		head, _, _ := strings.Cut(key, ".")
		if !strings.Contains(c.device, "\n"+head+":") || strings.Contains(c.device, "read_from") {
			return false
		}
		c.device = strings.Replace(c.device, "\n"+head+":", "\nread_from: {"+key+": 'x.txt:1 (guess)'}\n"+head+":", 1)
		return true
	}
}

// drop takes a line of the device file out.
func drop(key string) func(*spoilt) bool {
	return func(c *spoilt) bool {
		lines := strings.SplitAfter(c.device, "\n")
		n := len(lines)
		lines = slices.DeleteFunc(lines, func(l string) bool { return strings.HasPrefix(l, key+":") })
		c.device = strings.Join(lines, "")
		return len(lines) < n
	}
}

// mainImage makes the main images anew.
func mainImage(arch byte, title string) func(*spoilt) bool {
	return func(c *spoilt) bool {
		for _, n := range []string{"a.img", "b.img"} {
			if c.images[n] != nil {
				c.images[n] = spoilImage(arch, 2, title, 900)
			}
		}
		return true
	}
}

const release842 = "  - version: 8.4.2\n"

// spoils are ways to take away, to contradict or to leave open what a fit rests on.
var spoils = map[string]spoil{
	"a bit of the payload": {"intact", "", byImage, "", func(c *spoilt) bool {
		c.images["a.img"] = bytes.Clone(c.images["a.img"])
		c.images["a.img"][300] ^= 4
		return true
	}},
	"half of the archive":             {"intact", "", byImage, "", func(c *spoilt) bool { c.cut = true; return c.archive != "folder" }},
	"a saved page":                    {"intact", "", byImage, "", func(c *spoilt) bool { c.page = "<!DOCTYPE html><html>log in</html>"; return c.archive != "folder" }},
	"a page in the payload":           {"intact", "payload", byImage, "", payload([]byte("<!DOCTYPE html><html><body>log in</body></html>\n"))},
	"a text in the payload":           {"intact", "payload", byImage, "", payload([]byte(strings.Repeat("there is no such file\n", 20)))},
	"a blank payload":                 {"intact", "payload", byImage, "", payload(bytes.Repeat([]byte{0xff}, 900))},
	"a page in a gzip":                {"intact", "payload", byImage, "", payload(gzipped([]byte("<!DOCTYPE html><html><body>log in</body></html>\n")))},
	"a program for another processor": {"arch", "payload", byImage, "", payload(program(8, 2))},
	"packed, for another processor":   {"arch", "payload", byImage, "", payload(gzipped(program(62, 1)))},
	"programs for another processor":  {"agreement", "payload", byImage, "", payload(ramDisk(program(8, 2)))},
	"an image of another processor, packed": {"arch", "payload", byImage, "single", func(c *spoilt) bool {
		c.images["a.img"] = gzipped(demo.UImage(5, 5, 2, "QM-8T 8.4.2", []byte("\x00a kernel")))
		return true
	}},
	"a tree for another board":       {"model", "payload", byImage, "", payload(demo.Tree(17, demo.Node{Props: []demo.Prop{{Name: "compatible", Value: []byte("quillmere,qm9t\x00")}}}))},
	"a further image behind":         {"intact", "coverage", byImage, "", both(unproven, behind(spoilImage(2, 2, "QM-8T 8.4.2", 400)))},
	"bytes behind the image":         {"intact", "coverage", byImage, "", both(unproven, behind([]byte("\x01\x02something\x03 else")))},
	"nothing covers it":              {"intact", "coverage", byImage, "single", both(unproven, file("a.img", []byte("\x01\x02\x03\x04\x05\x06\x07 of no known format")))},
	"a signed list that is silent":   {"signature", "signatures", byImage, "", func(c *spoilt) bool { c.mute = true; return true }},
	"a signed list of weak digests":  {"signature", "signatures", byImage, "", func(c *spoilt) bool { c.md5 = true; return true }},
	"a twin by its case":             {"intact", "one reading", byImage, "", both(file("A.IMG", []byte("another")), func(c *spoilt) bool { return c.archive != "folder" })},
	"a format that it does not take": {"kind", "", byImage, "", in2rules("main: {slotted: true}", "main: {slotted: true, formats: [trx]}", "system: {}", "system: {formats: [trx]}")},
	"a RAM disk alone":               {"kind", "", byImage, "single", file("a.img", spoilImage(2, 3, "QM-8T 8.4.2", 900))},
	"a wrong digest":                 {"digest", "", byImage, "", func(c *spoilt) bool { c.badSum = true; return c.sums }},
	"a signature of another":         {"signature", "", byImage, "", func(c *spoilt) bool { c.badSign = true; return true }},
	"a file is missing":              {"complete", "", byPkg, "", func(c *spoilt) bool { delete(c.images, "a.img"); return true }},
	"a line nobody reads":            {"complete", "", byPkg, "", func(c *spoilt) bool { c.records = append(c.records, "??"); return true }},
	"header and list differ":         {"agreement", "", byImage, "", mainImage(2, "QM-8T 8.4.1")},
	"another model":                  {"model", "", byImage, "", func(c *spoilt) bool { c.heading = "QM-9T"; return true }},
	"no model":                       {"model", "", byImage, "", func(c *spoilt) bool { c.heading = "everything"; mainImage(2, "system")(c); return true }},
	"the model is a guess":           {"model", "device side", everyone, "", guess("model")},
	"no such model":                  {"model", "device side", everyone, "", dev("model: QM-8T", "model: QM-8X")},
	"another revision":               {"revision", "", byImage, "single", rec("revs=A1-A2", "revs=B1")},
	"no known revision":              {"revision", "revisions", byImage, "single", rec("revs=A1-A2", "revs=not-A2")},
	"a former revision":              {"revision", "revisions", byImage, "single", rec("revs=A1-A2", "revs=ex-A2")},
	"a revision too many":            {"revision", "device side", byImage, "single", dev("revision: A2", "revision: Z9")},
	"the revision's a guess":         {"revision", "device side", byPkg, "single", guess("revision")},
	"the board is another's":         {"revision", "device side", everyone, "single", dev("revision: A2", "revision: A2\nboards: ['quillmere,qm8t-b']")},
	"another architecture":           {"arch", "", byImage, "", mainImage(5, "QM-8T 8.4.2")},
	"arch against rulebook":          {"arch", "device side", everyone, "single", dev("revision: A2", "revision: A2\narch: mips")},
	"another board":                  {"board", "", byImage, "", rec("boards=quillmere,qm8t-a", "boards=quillmere,other")},
	"another family":                 {"family", "", byPkg, "", rec("fam=tram", "fam=lantern")},
	"family against rulebook":        {"family", "device side", everyone, "", dev("region: EU", "region: EU\nfamily: lantern")},
	"another region":                 {"region", "", byImage, "", rec("region=EU", "region=US")},
	"another hypervisor":             {"hypervisor", "", byImage, "", rec("hyp=xen", "hyp=kvm")},
	"the hypervisor is a guess":      {"hypervisor", "device side", byPkg, "", guess("hypervisor")},
	"the region is a guess":          {"region", "device side", byPkg, "", guess("region")},
	"the virtual image":              {"platform", "", byImage, "", rec("plat=physical", "plat=virtual")},
	"the platform's a guess":         {"platform", "device side", byPkg, "", guess("platform")},
	"another feature":                {"feature", "", byImage, "", rec("feat=vpn", "feat=voice")},
	"features are a guess":           {"feature", "device side", everyone, "", guess("features")},
	"withdrawn":                      {"withdrawn", "", all, "", rule(release842, release842+"    withdrawn: uplinks flap\n")},
	"a rule forbids it":              {"path", "", everyone, "", rule("  rules:\n", "  rules:\n    - {from: '8.2.1', to: '8.4.2', allow: false}\n")},
	"only listed moves":              {"path", "", everyone, "", rule("upward: open", "upward: listed")},
	"for another model":              {"path", "", all, "", rule(release842, release842+"    models: [QM-9T]\n")},
	"for no known revision":          {"path", "rules that cannot apply", everyone, "", rule(release842, release842+"    revisions: [not-A2]\n")},
	"it is not listed":               {"path", "", everyone, "", rule("version: 8.4.2", "version: 8.4.9")},
	"not what the slot holds":        {"path", "device side", everyone, "", dev("{name: A, main: 8.2.1, active: true}", "{name: A, main: 8.3.0, active: true}")},
	"what runs is a guess": {"path", "device side", everyone, "", func(c *spoilt) bool {
		return in(&c.device, "main: 8.2.1, active", "active") && guess("installed.main")(c)
	}},
	"what runs is not known":  {"path", "device side", everyone, "", dev(", main: 8.2.1}", "}", "main: 8.2.1, active", "active")},
	"all installed a guess":   {"path", "device side", everyone, "", guess("installed")},
	"it comes down":           {"path", "", everyone, "", dev("main: 8.2.1}", "main: 9.0.0}", "main: 8.2.1, active", "main: 9.0.0, active")},
	"the build decides":       {"path", "versions", everyone, "", rule("  rules:\n", "  rules:\n    - {from: '>=8.2.1-5', to: '8.4.2', allow: false}\n")},
	"a rule misspells":        {"path", "rules that cannot apply", everyone, "", rule("  rules:\n", "  rules:\n    - {models: [QM-88T], from: '8.2.1', to: '8.4.2', allow: false}\n")},
	"a rule's family":         {"path", "rules that cannot apply", everyone, "", rule("  rules:\n", "  rules:\n    - {from_family: tramm, to_family: tram, from: '8.2.1', allow: false}\n")},
	"a rule's revision":       {"path", "rules that cannot apply", everyone, "", rule("  rules:\n", "  rules:\n    - {revisions: [A2x], from: '8.2.1', to: '8.4.2', allow: false}\n")},
	"a need misspells":        {"needs", "rules that cannot apply", everyone, "", rule("    needs:\n", "    needs:\n      - {component: bott, within: '>=1.0.0'}\n")},
	"a drop misspells":        {"path", "rules that cannot apply", everyone, "", rule("drops: [VR-210]", "drops: [VR-21O]")},
	"brought, it breaks":      {"needs", "state afterwards", everyone, "", rule(`within: ">=3.1.0 <4.0.0"`, `within: ">=3.1.0 <3.2.0"`)},
	"boot is not known":       {"needs", "device side", everyone, "", dev("boot: 3.1.4, ", "")},
	"boot is a guess":         {"needs", "device side", everyone, "", guess("installed.boot")},
	"the companion is old":    {"needs", "", everyone, "", dev("controller: 5.2.0", "controller: 5.0.9")},
	"not above it":            {"needs", "versions", everyone, "", dev("controller: 5.2.0", "controller: 5.1.0")},
	"the companion's a guess": {"needs", "device side", everyone, "", guess("companions.controller")},
	"no companion":            {"needs", "", everyone, "", drop("companions")},
	"no feature":              {"needs", "", everyone, "", dev("features: [vpn]", "features: [voice]")},
	"nothing attached":        {"needs", "", everyone, "", drop("attached")},
	"attached is a guess":     {"attached", "device side", everyone, "", guess("attached")},
	"a dropped one":           {"attached", "attached", everyone, "", dev("attached: [VR-310,", "attached: [VR-310, vr-210,")},
	"perhaps a dropped one":   {"attached", "attached", everyone, "", dev("attached: [VR-310,", "attached: [VR-310, VR-210-EU,")},
	"one half is old":         {"paired", "state afterwards", byPkg, "pair", rec("loader loader.bin 2.4.1", "loader loader.bin 2.4.0")},
	"one half is not there": {"paired", "state afterwards", byPkg, "pair", func(c *spoilt) bool {
		c.records = slices.DeleteFunc(c.records, func(l string) bool { return strings.Contains(l, "loader.bin") })
		delete(c.images, "loader.bin")
		return true
	}},
	"the slot is small":       {"slot", "", byPkg, "", rule("slot: 64KiB", "slot: 500", "slot: 64KiB", "slot: 500", "slot: 64KiB", "slot: 500")},
	"no slots":                {"slot", "device side", byPkg, "", dev("slots:\n  - {name: A, main: 8.2.1, active: true}\n  - {name: B, main: 8.2.1}\n", "")},
	"slots are a guess":       {"slot", "device side", byPkg, "", guess("slots")},
	"one slot is a guess":     {"slot", "device side", byPkg, "", guess("slots.B")},
	"which is active":         {"slot", "device side", byPkg, "", dev(", active: true", "")},
	"no room":                 {"room", "", everyone, "", dev("storage_free: 4MiB", "storage_free: 4KiB")},
	"the room is a guess":     {"room", "device side", everyone, "", guess("storage_free")},
	"too little memory":       {"memory", "", everyone, "", rule("memory: 256MiB}", "memory: 512MiB}", "memory: 256MiB}\n      - {feature", "memory: 512MiB}\n      - {feature")},
	"memory against rulebook": {"memory", "device side", everyone, "", dev("memory: 256MiB", "memory: 64MiB")},
	"members differ": {"uniform", "state afterwards", byPkg, "stack", func(c *spoilt) bool {
		rec("main b.img 8.4.2", "main b.img 8.2.1")(c)
		c.images["b.img"] = spoilImage(22, 2, "QM-8T 8.2.1", 900)
		return true
	}},
	"none for a member": {"uniform", "state afterwards", byPkg, "stack", func(c *spoilt) bool {
		c.records = slices.DeleteFunc(c.records, func(l string) bool { return strings.Contains(l, "revs=B1") })
		return true
	}},
	"the entitlement ended": {"entitled", "", everyone, "", dev("entitled_until: 2027-03-31", "entitled_until: 2026-01-01")},
	"entitled too late":     {"entitled", "", everyone, "", dev("entitled_until: 2027-03-31", "entitled: {from: 2027-01-01, until: 2027-03-31}")},
	"entitled in vain":      {"entitled", "", everyone, "", dev("entitled_until: 2027-03-31", "entitled: {until: 2027-03-31, active: false}")},
	"until is a guess":      {"entitled", "device side", everyone, "", guess("entitled_until")},
	"no date":               {"entitled", "", everyone, "", rule("    date: 2026-09-30\n", "")},
	"a name too long":       {"transfer", "", byPkg, "", rule("longest_name: 63", "longest_name: 3")},
	"too large to carry":    {"transfer", "", byPkg, "", rule("largest: 1MiB", "largest: 100")},
	"unpacked, must not be": {"handling", "", byPkg, "", func(c *spoilt) bool {
		c.archive = "folder"
		return in(&c.rules, "handling: unpacked", "handling: whole")
	}},
	"an older boot loader": {"version", "state afterwards", everyone, "", func(c *spoilt) bool {
		rec("l.boot 3.2.0", "l.boot 3.1.0")(c)
		rec("b.boot 3.2.0", "b.boot 3.1.0")(c)
		return in(&c.rules, "boot: {optional: true}", "boot: {}", "brings: {boot: 3.2.0}", "brings: {boot: 3.1.0}")
	}},
	"a guess in the rulebook": {"rulebook", "", byPkg, "", in2rules("versions:\n", "versions:  # GUESS: as they look\n", "hops:\n", "hops:\n")},
	"another outer kind": {"handling", "names", byPkg, "", func(c *spoilt) bool {
		return c.archive != "folder" && in(&c.rules, "    handling: unpacked\n", "    handling: unpacked\n    outer: cpio\n")
	}},
	"an older one alone": {"version", "state afterwards", byPkg, "single", func(c *spoilt) bool {
		c.records = slices.DeleteFunc(c.records, func(l string) bool { return strings.Contains(l, "a.img") })
		rec("3.2.0", "3.1.0")(c)
		delete(c.images, "a.img")
		return in(&c.rules, "    handling: unpacked\n", "    handling: unpacked\n    components: [boot]\n")
	}},
	"a withdrawn one alone": {"withdrawn", "state afterwards", byPkg, "single", func(c *spoilt) bool {
		c.records = slices.DeleteFunc(c.records, func(l string) bool { return strings.Contains(l, "a.img") })
		delete(c.images, "a.img")
		return in(&c.rules, "    handling: unpacked\n", "    handling: unpacked\n    components: [boot]\n") && in(&c.rules, release842, release842+"    withdrawn: it burns\n")
	}},
	"its name says otherwise": {"agreement", "names", byImage, "", func(c *spoilt) bool { c.name = "qm-8.4.1"; return true }},
	"nor does trust cover it": {"agreement", "names", byImage, "", func(c *spoilt) bool {
		c.name, c.flags = "qm-8.4.1", append(c.flags, "-trust-names")
		return true
	}},
	"the kit has a good one": {"revision", "what was given", byPkg, "single", func(c *spoilt) bool {
		c.inKit = true
		return rec("revs=A1-A2 boards=quillmere,qm8t-a ", "")(c)
	}},
	"it stands for another": {"path", "what was given", "sr", "single", func(c *spoilt) bool {
		c.inKit = true
		return rec("a.img 8.4.2", "a.img 8.2.1")(c) && mainImage(2, "QM-8T 8.2.1")(c) && rec("l.boot 3.2.0", "l.boot 3.1.4")(c)
	}},
	"two that suit": {"agreement", "candidates", byPkg, "", func(c *spoilt) bool {
		i := slices.IndexFunc(c.records, func(l string) bool { return strings.Contains(l, "a.img") })
		c.records = append(c.records, strings.Replace(c.records[i], "a.img", "c.img", 1))
		c.images["c.img"] = spoilImage(2, 2, "QM-8T 8.4.2", 901)
		return true
	}},
	"the given one is cut": {"intact", "candidates", byPkg, "single", func(c *spoilt) bool {
		c.images["c.img"] = c.images["a.img"]
		c.images["a.img"] = c.images["a.img"][:500]
		c.records = append(c.records, "main c.img 8.4.2 boards=quillmere,qm8t-a")
		return true
	}},
	"no rulebook":   {"path", "no rulebook", everyone, "", func(c *spoilt) bool { c.noRules = true; return true }},
	"only a glance": {"intact", "quick", "m", "", func(c *spoilt) bool { c.flags = append(c.flags, "-quick"); return true }},
	"it is silent":  {"version", "device side", "psr", "single", dev("region: EU", "region: EU\nstate: silent")},

	"the neighbour's serial":   {"identity", "", "c", "single", capt("Serial: 0417-221", "Serial: 0417-222")},
	"the neighbour's name":     {"identity", "", "c", "single", capt("Serial: 0417-221\n", "", "Name: cab", "Name: cub")},
	"no identity":              {"identity", "", "c", "single", capt("Serial: 0417-221\n", "", "Name: cab\n", "")},
	"a member is gone":         {"member", "", "c", "stack", func(c *spoilt) bool { c.capture, _, _ = strings.Cut(c.capture, "Member two"); return true }},
	"a swapped member":         {"identity", "", "c", "stack", capt("Serial: S2", "Serial: S9")},
	"the region changed":       {"unchanged", "", "c", "", capt("Region: EU", "Region: US")},
	"not saved":                {"settings", "", "c", "single", capt("Settings saved: yes", "Settings saved: false")},
	"it runs the old one":      {"version", "", "c", "single", capt("Running: 8.4.2", "Running: 8.2.1")},
	"two words for it":         {"version", "", "c", "single", capt("Slot B 8.4.2 *", "Slot B 8.3.0 *")},
	"it does not tell":         {"version", "", "c", "single", capt("Boot loader: 3.2.0\n", "")},
	"the other slot":           {"slot", "", "c", "single", capt("Slot A 8.2.1", "Slot A 8.4.2 *", "Slot B 8.4.2 *", "Slot B 8.2.1")},
	"one radio is missing":     {"attached", "attached", "c", "single", capt("Radio VR-310\n", "")},
	"a lamp is not shown":      {"seen", "", "c", "single", rule("kind: rulebook\n", "kind: rulebook\nchecks_after: [{must_show: '^Lamp: green', say: the lamp is green}]\n")},
	"an alarm is shown":        {"seen", "", "c", "single", both(rule("kind: rulebook\n", "kind: rulebook\nchecks_after: [{must_not_show: '^Region', say: there is no region}]\n"))},
	"an alarm may be old":      {"seen", "", "c", "single", both(rule("kind: rulebook\n", "kind: rulebook\nchecks_after: [{must_not_show: '^Region', new_only: true, say: there is no new region}]\n"))},
	"the boot loader's format": {"format", "", "v", "single", rule("formats: [uimage]", "formats: [trx]")},
	"another component":        {"component", "", "v", "single", rule("components: [main]", "components: [poe]")},
	"too large for it":         {"size", "", "v", "single", rule("largest: 60KiB", "largest: 100")},
	"what is there is old":     {"needs", "", "v", "single", dev("boot: 3.1.4", "boot: 3.0.0")},
}

// harmless changes nothing that counts.
var harmless = map[string]func(c *spoilt, r *rand.Rand) bool{
	"comments":       func(c *spoilt, _ *rand.Rand) bool { c.comments = true; return true },
	"CRLF":           func(c *spoilt, _ *rand.Rand) bool { c.crlf = true; return true },
	"a tar":          func(c *spoilt, _ *rand.Rand) bool { c.archive = "tgz"; return true },
	"a folder":       func(c *spoilt, _ *rand.Rand) bool { c.archive = "folder"; return true },
	"another folder": func(c *spoilt, _ *rand.Rand) bool { c.folder = "release/of/autumn"; return true },
	"another name":   func(c *spoilt, _ *rand.Rand) bool { c.name = "old-" + c.name; return true },
	"records reordered": func(c *spoilt, r *rand.Rand) bool {
		r.Shuffle(len(c.records), func(i, k int) { c.records[i], c.records[k] = c.records[k], c.records[i] })
		return true
	},
	"another spelling": func(c *spoilt, _ *rand.Rand) bool { return in(&c.device, "model: QM-8T", "model: qm8t") },
	"members reordered": func(c *spoilt, _ *rand.Rand) bool {
		return in(&c.device, "  - {name: one, revision: A2, serial: S1}\n  - {name: two, revision: B1, serial: S2}\n", "  - {name: two, revision: B1, serial: S2}\n  - {name: one, revision: A2, serial: S1}\n")
	},
	"captured otherwise": func(c *spoilt, _ *rand.Rand) bool { c.console = true; return true },
	"the kit has it":     func(c *spoilt, _ *rand.Rand) bool { c.inKit = true; return true },
	"an unknown newer": func(c *spoilt, _ *rand.Rand) bool {
		return in(&c.rules, "  - {version: 8.2.1,", "  - {version: 8.4.5, families: [tram], withdrawn: 'it hums'}\n  - {version: 8.2.1,")
	},
}

var letters = map[byte]string{'m': "match", 'p': "path", 's': "stage", 'r': "runbook", 'c': "confirm", 'v': "recover"}

func decorate(c *spoilt, r *rand.Rand) []string {
	var done []string
	for _, name := range slices.Sorted(maps.Keys(harmless)) {
		if r.IntN(4) == 0 && harmless[name](c, r) {
			done = append(done, name)
		}
	}
	return done
}

// What fits does so however it is packed and written; and every way to spoil it turns
// every command away from its yes.
func TestNothingPasses(t *testing.T) {
	clauses := map[string]int{}
	checks := map[string]int{}
	rounds := 6
	if testing.Short() {
		rounds = 1
	}
	names := slices.Sorted(maps.Keys(spoils))
	for i, name := range names {
		s := spoils[name]
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(uint64(i), 11))
			tried := 0
			for n := 0; tried < rounds && n < 60*rounds; n++ {
				c := sound(r)
				if s.kinds == "" && c.kind == "pair" || s.kinds != "" && !strings.Contains(s.kinds, c.kind) {
					continue
				}
				dressed := decorate(c, r)
				before := c.clone()
				if !s.do(c) {
					continue
				}
				tried++
				night := c.lay(t, r, before)
				for _, l := range []byte(s.on) {
					if l == 'v' && c.kind != "single" {
						continue
					}
					status := night.run(letters[l])
					require.NotZero(t, status, "%s, %s with %v: %s\n%s", letters[l], c.kind, dressed, name, night.out[letters[l]])
					if l == 's' {
						require.NoDirExists(t, filepath.Join(night.dir, "served"))
					}
				}
			}
			require.NotZero(t, tried, "it was never tried")
		})
		checks[s.check]++
		clauses[s.clause]++
	}
	for _, c := range check.All() {
		if decides := slices.ContainsFunc(c.Codes, func(k *check.Code) bool { return k.Outcome == fit.Misfit || k.Outcome == fit.Unsettled }); decides {
			assert.NotZero(t, checks[c.Name], "nothing spoils the check %s", c.Name)
		}
		delete(checks, c.Name)
	}
	assert.Empty(t, checks, "these are no checks")
	for _, clause := range []string{"state afterwards", "device side", "revisions", "versions", "rules that cannot apply", "attached", "candidates", "no rulebook", "names", "what was given", "quick", "payload", "coverage", "signatures", "one reading"} {
		assert.NotZero(t, clauses[clause], "nothing spoils what holds for %s", clause)
	}
}

// A case that is sound passes every command, whatever harmless is done to it, and every
// line of its verdict cites both sides.
func TestWhatFitsPasses(t *testing.T) {
	for seed := range uint64(60) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(seed, 12))
			c := sound(r)
			before := c.clone()
			dressed := decorate(c, r)
			night := c.lay(t, r, before)
			for l, command := range letters {
				if l == 'v' && c.kind != "single" {
					continue
				}
				status := night.run(command)
				require.Zero(t, status, "%s, %s with %v\n%s", command, c.kind, dressed, night.out[command])
			}
			bothSides(t, night)
		})
	}
}

// bothSides holds that every line cites both sides, and says why.
func bothSides(t *testing.T, n *night) {
	for _, l := range lines(t, n) {
		told := fmt.Sprintf("%+v", l)
		k := check.Explain(l.Code)
		require.NotNil(t, k, told)
		require.Equal(t, l.Check, k.Check.Name, told)
		require.Equal(t, l.Outcome, string(k.Outcome), told)
		require.NotEmpty(t, l.Because, told)
		require.NotContains(t, l.Because, "%!", told)
		if l.Outcome == "misfit" || l.Outcome == "unsettled" {
			require.NotEmpty(t, l.Advice, told)
		}
		if l.Outcome == "n/a" {
			continue
		}
		sides := map[bool]bool{}
		for _, s := range l.Sources {
			require.NotEmpty(t, s.Where, told)
			sides[s.Side == "package"] = true
		}
		require.True(t, sides[true] && sides[false], "it does not cite both sides: %s", told)
		require.NotEmpty(t, l.Device, told)
		require.NotEmpty(t, l.Package, told)
	}
}

// line is one of a verdict, as JSON has it.
type line struct {
	Check, Code, Outcome, Device, Package, Because, Advice string
	Sources                                                []struct{ Side, Value, Where string }
}

// oneResult is the only result of a document that has a list of them, or the document.
func oneResult(text string) []byte {
	var doc struct{ Results []json.RawMessage }
	if json.Unmarshal([]byte(text), &doc) == nil && len(doc.Results) == 1 {
		return doc.Results[0]
	}
	return []byte(text)
}

// lines are those that the commands of a night gave.
func lines(t *testing.T, n *night) []line {
	var out []line
	for _, command := range []string{"match", "confirm", "recover"} {
		var doc struct {
			Checks  []line
			Members []struct{ Checks []line }
			Chosen  struct{ Checks []line }
			Others  []struct{ Checks []line }
		}
		if n.out[command] == "" {
			continue
		}
		require.NoError(t, json.Unmarshal(oneResult(n.out[command]), &doc))
		out = append(out, append(doc.Checks, doc.Chosen.Checks...)...)
		for _, m := range doc.Members {
			out = append(out, m.Checks...)
		}
		for _, o := range doc.Others {
			out = append(out, o.Checks...)
		}
	}
	return out
}

// The commands never disagree on one device and package, sound or spoilt once or twice:
// what matches is on a path, and is staged and planned; what is not is neither.
func TestCommandsNeverDisagree(t *testing.T) {
	seeds := uint64(250)
	if testing.Short() {
		seeds = 30
	}
	names := slices.Sorted(maps.Keys(spoils))
	for seed := range seeds {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(seed, 13))
			c := sound(r)
			var done []string
			for range r.IntN(3) {
				name := names[r.IntN(len(names))]
				s := spoils[name]
				if strings.ContainsAny(s.on, "mps") && (s.kinds == "" && c.kind != "pair" || strings.Contains(s.kinds, c.kind)) && s.clause != "what was given" && s.clause != "quick" && s.do(c) {
					done = append(done, name)
				}
			}
			decorate(c, r)
			c.inKit, c.flags = false, nil
			n := c.lay(t, r, c)
			match, path, stage, runbook := n.run("match"), n.run("path"), n.run("stage"), n.run("runbook")
			told := fmt.Sprintf("%s %v: match %d, path %d, stage %d, runbook %d\n%s\n%s", c.kind, done, match, path, stage, runbook, n.out["match"], n.out["stage"])
			require.Equal(t, stage, runbook, told)
			if match == 0 && !slices.Contains(done, "it is silent") { // which match notes, and the others do not pass
				require.Zero(t, stage, told)
				if !slices.Contains(done, "an older one alone") && !slices.Contains(done, "a withdrawn one alone") {
					require.Zero(t, path, told)
				}
			}
			var doc struct{ Hops []struct{ Release string } }
			require.NoError(t, json.Unmarshal(oneResult(n.out["path"]), &doc))
			if len(doc.Hops) <= 1 && match != 0 {
				require.NotZero(t, stage, told)
			}
			bothSides(t, n)
		})
	}
}

const shownFile = "../../core/plan/examples.txt"

// Every reason has an example, which is what the checks say: those that package fit
// makes for the checks of a match, and here the others.
func TestEveryReasonIsGiven(t *testing.T) {
	here := map[string]check.Shown{}
	fits, err := os.ReadFile("../../core/fit/check/examples.txt")
	require.NoError(t, err)
	elsewhere := func(code string) bool {
		return bytes.Contains(fits, []byte("\n"+code+"\t")) || bytes.HasPrefix(fits, []byte(code+"\t"))
	}
	take := func(name string, n *night) {
		for _, l := range lines(t, n) {
			if _, had := here[l.Code]; !had && !elsewhere(l.Code) {
				here[l.Code] = check.Shown{When: name, Says: strings.ReplaceAll(l.Because, n.dir+string(filepath.Separator), "")}
			}
		}
	}
	at := func(name, kinds, on string, do func(*spoilt) bool) {
		for seed := range uint64(30) {
			r := rand.New(rand.NewPCG(seed, 14))
			c := sound(r)
			c.sums = true
			if kinds == "" && c.kind == "pair" || kinds != "" && !strings.Contains(kinds, c.kind) || !do(c) {
				continue
			}
			n := c.lay(t, r, c)
			for _, l := range []byte(on) {
				if l != 'v' || c.kind == "single" {
					n.run(letters[l])
				}
			}
			take(name, n)
			return
		}
		t.Fatal("it applies to no case: " + name)
	}
	for _, kind := range []string{"single", "stack", "pair"} {
		at("all is well", kind, "mcv", func(*spoilt) bool { return true })
	}
	for _, name := range slices.Sorted(maps.Keys(spoils)) {
		s := spoils[name]
		on := "m"
		if !strings.ContainsAny(s.on, "mps") {
			on = s.on
		}
		at(name, s.kinds, on, s.do)
	}
	for _, name := range slices.Sorted(maps.Keys(turns)) {
		at(name, turns[name].kinds, turns[name].on, turns[name].do)
	}
	for _, o := range []sign.Outcome{sign.Expired, sign.NotYet, sign.Unknown, sign.Partial, sign.NoKey} { // of other tools' signatures
		l := check.Signed(survey.Signed{Of: "m.txt", Result: sign.Result{Outcome: o, Because: "it is " + string(o)}})
		if _, had := here[l.Code]; !had && !elsewhere(l.Code) {
			here[l.Code] = check.Shown{When: "a signature that is " + string(o), Says: l.Because}
		}
	}
	note := func(when string, l check.Line) {
		if _, had := here[l.Code]; !had && !elsewhere(l.Code) {
			here[l.Code] = check.Shown{When: when, Says: l.Because}
		}
	}
	part := &survey.Survey{Name: "x.zip", Items: []*survey.Item{{Item: &archive.Item{Address: "x.zip"}, Kind: "zip"}}, Problems: []archive.Problem{{Item: "x.zip::a.img", Class: archive.Unreadable, What: "it is encrypted", Advice: "ask for the password"}}}
	for _, l := range check.Package(part) {
		note("an encrypted part", l)
	}
	d, err := device.Read("d.yaml", []byte("kind: device\nname: cab\n"))
	require.NoError(t, err)
	carries := &survey.Item{Item: &archive.Item{Address: "x.itb"}, Kind: "fit", Signed: []survey.Signed{{Of: "x.itb", Result: sign.Result{Outcome: sign.NoKey, Because: "the kit has no key of that name"}}}}
	for _, l := range check.New(member.Resolve(d, nil), &survey.Survey{Name: "x.itb", Items: []*survey.Item{carries}}, check.Options{}).Candidate(check.Component{Name: "main"}, carries).Lines {
		note("an image that carries a signature", l)
	}
	rb, err := rulebook.Read("r.yaml", []byte("kind: rulebook\ntitle: x\nmodels: {QM-8T: {families: [tram]}}\nfamilies: {tram: {components: {main: {title: x}}}}\nreleases: [{version: '8.2', families: [tram]}, {version: '8.4', families: [tram]}]\nhops: {upward: open}\n"))
	require.NoError(t, err)
	d, err = device.Read("d.yaml", []byte("kind: device\nname: cab\nmodel: QM-8T\ninstalled: {main: '8.2'}\n"))
	require.NoError(t, err)
	for when, o := range map[string]path.Options{"a release to avoid": {Avoid: []string{"8.4"}}, "only what is at hand": {OnHand: func(*rulebook.Release) bool { return false }}} {
		res, err := path.Find(path.Request{Device: d, Rules: func(string) *rulebook.Rulebook { return rb }, Goal: path.Goal{Version: "8.4"}, Options: o})
		require.NoError(t, err)
		for _, b := range res.Plans[0].Blocked {
			note(when, check.Line{Code: b.Code, Because: b.Because})
		}
	}
	set := &rulebook.CertifiedSet{Name: "s", Entries: []rulebook.CertifiedEntry{{In: rb, CertifiedVersion: &rulebook.CertifiedVersion{Model: y.String{Text: "QM-8T"}, Components: y.Map[y.String]{Entries: []*y.Entry[y.String]{
		{Key: "main", Value: y.String{Text: "8.4"}}, {Key: "boot", Value: y.String{Text: ">=3"}}}}}}}}
	d, err = device.Read("d.yaml", []byte("kind: device\nname: cab\nmodel: QM-8T\ninstalled: {main: '8.2', boot: '1'}\n"))
	require.NoError(t, err)
	res, err := path.Find(path.Request{Device: d, Rules: func(string) *rulebook.Rulebook { return rb }, Goal: path.Goal{Version: "certified:s", Set: set}})
	require.NoError(t, err)
	for _, b := range res.Plans[0].Blocked {
		note("a certified set with another boot loader", check.Line{Code: b.Code, Because: b.Because})
	}
	var b strings.Builder
	for _, code := range slices.Sorted(maps.Keys(here)) {
		fmt.Fprintf(&b, "%s\t%s\t%s\n", code, here[code].When, here[code].Says)
	}
	var missing []string
	for _, k := range check.Codes() {
		if _, ok := here[k.Name]; !ok && !elsewhere(k.Name) {
			missing = append(missing, k.Name)
		}
	}
	assert.Empty(t, missing, "no case makes the checks say these")
	if pagetest.Update() {
		require.NoError(t, os.WriteFile(shownFile, []byte(b.String()), 0o644))
		return
	}
	have, err := os.ReadFile(shownFile)
	require.NoError(t, err)
	assert.Equal(t, b.String(), string(have), "out of date: go test ./internal/cli -run TestEveryReasonIsGiven -update")
}

// turn is a further case that makes the checks give their reasons.
type turn struct {
	kinds, on string
	do        func(*spoilt) bool
}

// radios has two of them attached, which run what the device runs; the first comes back with a
// version, while the device is at work or not.
func radios(main, job string) func(*spoilt) bool {
	return both(
		dev("attached: [VR-310, VR-310]", "attached: [{name: r1, model: VR-310, main: 8.2.1}, {name: r2, model: VR-310, main: 4.1.0}]"),
		rule(`attached: '^Radio (?P<model>\S+)'`, `attached: '^Radio (?P<model>\S+) (?P<name>\S+) (?P<main>\S+)'`, `region:  `, "job.state: '^Job: (\\S+)'\n      region:  "),
		capt("Radio VR-310\nRadio VR-310\n", "Radio VR-310 r1 "+main+"\nRadio VR-310 r2 4.1.0\nJob: "+job+"\n"))
}

func both(all ...func(*spoilt) bool) func(*spoilt) bool {
	return func(c *spoilt) bool {
		for _, do := range all {
			if !do(c) {
				return false
			}
		}
		return true
	}
}

// mains are the main images of a case.
func (c *spoilt) mains() []string {
	var out []string
	for _, n := range []string{"a.img", "b.img", "system.bin"} {
		if c.images[n] != nil {
			out = append(out, n)
		}
	}
	return out
}

// payload gives the main images another payload, with right checksums.
func payload(data []byte) func(*spoilt) bool {
	return func(c *spoilt) bool {
		for _, n := range c.mains() {
			old := c.images[n]
			title, _, _ := strings.Cut(string(old[32:64]), "\x00")
			c.images[n] = demo.UImage(5, old[29], old[30], title, data)
		}
		return true
	}
}

// behind puts something behind the main images.
func behind(data []byte) func(*spoilt) bool {
	return func(c *spoilt) bool {
		for _, n := range c.mains() {
			c.images[n] = append(bytes.Clone(c.images[n]), data...)
		}
		return true
	}
}

// unproven takes away every digest and signature.
func unproven(c *spoilt) bool {
	c.mute, c.sums = true, false
	return in(&c.rules, "    signature: {item: '**/m.sig', of: manifest, key: maker.pem}\n", "")
}

// program is an ELF file for a processor; order is 1 for little-endian.
func program(machine, order byte) []byte {
	b := make([]byte, 52)
	copy(b, "\x7fELF\x01")
	b[5], b[6] = order, 1
	var o binary.ByteOrder = binary.LittleEndian
	if order == 2 {
		o = binary.BigEndian
	}
	put := o.PutUint16
	put(b[16:], 2)
	put(b[18:], uint16(machine))
	o.PutUint32(b[20:], 1)
	put(b[40:], 52)
	return b
}

// ramDisk holds one program.
func ramDisk(sh []byte) []byte {
	var b bytes.Buffer
	for _, f := range []struct {
		name string
		data []byte
	}{{"bin/sh", sh}, {"TRAILER!!!", nil}} {
		fmt.Fprintf(&b, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s\x00", 1, 0o100755, 0, 0, 1, 0, len(f.data), 0, 0, 0, 0, len(f.name)+1, 0, f.name)
		b.Write(make([]byte, -b.Len()&3))
		b.Write(f.data)
		b.Write(make([]byte, -b.Len()&3))
	}
	return b.Bytes()
}

// in2rules changes the rulebook in one of two ways, whichever the case has.
func in2rules(old, new, old2, new2 string) func(*spoilt) bool {
	return func(c *spoilt) bool { return in(&c.rules, old, new) && in(&c.rules, old2, new2) }
}

// file changes an image of the package.
func file(name string, data []byte) func(*spoilt) bool {
	return func(c *spoilt) bool { c.images[name] = data; return true }
}

func gzipped(data []byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write(data)
	w.Close()
	return b.Bytes()
}

var turns = func() map[string]turn {
	withArch := rule(`(?:\s+feat=`, `(?:\s+arch=(?P<arch>\S+))?(?:\s+feat=`)
	noRevisions := rec(" revs=A1-A2 boards=quillmere,qm8t-a", "")
	out := map[string]turn{
		"a gzip for an image":          {"single", "m", both(file("a.img", gzipped([]byte("something packed"))), rec("main a.img", "main a.img"))},
		"an image without checksums":   {"single", "m", both(unproven, file("a.img", append([]byte("\x7fELF\x01\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00\x28\x00\x01\x00\x00\x00\x00\x80\x00\x00\x34\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x34\x00\x20\x00\x00\x00\x28\x00\x00\x00\x00\x00"), make([]byte, 64)...)))},
		"a kernel, as it is taken":     {"single", "m", rule("main: {slotted: true}", "main: {slotted: true, formats: [uimage/kernel]}")},
		"a signature nobody asked for": {"single", "m", both(unproven, file("x.asc", []byte("-----BEGIN PGP SIGNATURE-----\n\niQ==\n-----END PGP SIGNATURE-----\n")))},
		"a misfit by a guess": {"single", "m", func(c *spoilt) bool {
			return in(&c.rules, "versions:\n", "versions:  # GUESS: as they look\n", release842, release842+"    withdrawn: it burns\n")
		}},
		"for devices of another family": {"single", "m", func(c *spoilt) bool {
			return in(&c.rules, "    handling: unpacked\n", "    handling: unpacked\n    stands_for: {from_family: lantern}\n")
		}},
		"a name that climbs out":     {"single", "m", file("../../up.img", []byte("x"))},
		"a size that is not told so": {"single", "m", both(rule(`(?P<version>\S+)(?:\s+revs`, `(?P<version>\S+)(?:\s+size=(?P<size>\d+))?(?:\s+revs`), rec("a.img 8.4.2", "a.img 8.4.2 size=7"))},
		"a list with a line nobody reads": {"single", "m", func(c *spoilt) bool {
			c.images["more.sha256"] = []byte(strings.Repeat("a", 64) + "  a.img\n!!\n" + strings.Repeat("b", 64) + "  l.boot\n")
			return true
		}},
		"inside another archive": {"single", "m", func(c *spoilt) bool {
			var b bytes.Buffer
			w := zip.NewWriter(&b)
			for _, n := range []string{"a.img", "l.boot"} {
				e, _ := w.Create(n)
				_, _ = e.Write(c.images[n])
				delete(c.images, n)
			}
			w.Close()
			c.images["in.zip"] = b.Bytes()
			c.records = nil
			return in(&c.rules, "    manifest:", "    checksums: '**/SUMS'\n    manifest:")
		}},
		"an empty folder": {"single", "m", func(c *spoilt) bool { c.archive = "nothing"; return true }},
		"a board of two names it": {"single", "m", both(rec("revs=A1-A2 boards", "boards"), rule(`B1: {arch: arm64, boards: ["quillmere,qm8t-b"]`, `B1: {arch: arm, boards: ["quillmere,qm8t-b"]`), func(c *spoilt) bool {
			c.heading = "everything"
			return mainImage(2, "system")(c) && in(&c.rules, "heading: '^\\[(?P<models>[^\\]]+)\\]$'", "heading: '^\\[(?P<build>[^\\]]+)\\]$'")
		})},
		"nobody knows the model":         {"single", "m", drop("model")},
		"the board is of no such model":  {"single", "m", dev("revision: A2", "revision: A2\nboards: ['quillmere,qm9t']")},
		"boards that differ":             {"single", "m", both(dev("revision: A2", "revision: A2\nboards: ['quillmere,new']"))},
		"an open architecture":           {"single", "m", both(noRevisions, mainImage(99, "system"))},
		"a guessed architecture":         {"single", "m", both(rule("A2: {arch: arm,  ", "A2: {"), dev("revision: A2", "revision: A2\narch: arm"), guess("arch"))},
		"a guessed board":                {"single", "m", both(rule(`A2: {arch: arm,   boards: ["quillmere,qm8t-a"], `, "A2: {arch: arm, "), dev("revision: A2", "revision: A2\nboards: ['quillmere,qm8t-a']"), guess("boards"))},
		"a guessed family":               {"single", "m", both(rule("families: [tram]\n    revisions", "families: [tram, duo]\n    revisions"), dev("region: EU", "region: EU\nfamily: tram"), guess("family"))},
		"a family that nothing names":    {"single", "m", both(rule("    families: [tram]\n    brings: {boot: 3.2.0}", "    brings: {boot: 3.2.0}", "families: [tram]\n    revisions", "families: [tram, duo]\n    revisions"), rec(" fam=tram", ""), dev("region: EU", "region: EU\nfamily: tram"))},
		"a crossing that is not settled": {"single", "m", both(rule("families: [tram]\n    revisions", "families: [tram, lantern]\n    revisions", "  rules:\n", "  rules:\n    - {from_family: tram, to_family: lantern, allow: true, revisions: [A2x]}\n"), rec("fam=tram", "fam=lantern"), dev("region: EU", "region: EU\nfamily: tram"))},
		"boot comes after main":          {"single", "m", both(rule("{boot: {optional: true}, main: {slotted: true}}", "{main: {slotted: true}, boot: {optional: true}}"), dev("boot: 3.1.4", "boot: 3.0.0"))},
		"a need on a build":              {"single", "m", rule("within: \">=8.2.0\"", "within: \">=8.2.1-5\"")},
		"a companion without a number":   {"single", "m", dev("controller: 5.2.0", "controller: newest")},
		"a pair with an open build":      {"pair", "m", rec("loader loader.bin 2.4.1", "loader loader.bin 2.4.1-5")},
		"a guessed memory":               {"single", "m", both(rule("slot: 64KiB, memory: 256MiB}\n      A2", "slot: 64KiB}\n      A2", "A2: {arch: arm,   boards: [\"quillmere,qm8t-a\"], slot: 64KiB, memory: 256MiB}", "A2: {arch: arm,   boards: [\"quillmere,qm8t-a\"], slot: 64KiB}"), guess("memory"))},
		"unpacked already":               {"single", "m", func(c *spoilt) bool { c.archive = "folder"; return true }},
		"an older boot loader beside":    {"single", "m", both(rec("l.boot 3.2.0", "l.boot 3.1.0"), rule("    brings: {boot: 3.2.0}\n", ""))},
		"a newer one lies beside": {"single", "m", both(func(c *spoilt) bool {
			c.records = append(c.records, "main b.img 8.2.1 revs=A1-A2 boards=quillmere,qm8t-a")
			c.name = "autumn"
			return true
		}, file("b.img", spoilImage(2, 2, "QM-8T 8.2.1", 900)))},
		"runs it already": {"pair", "m", both(dev("loader: 2.4.0", "loader: 2.4.1"), func(c *spoilt) bool {
			c.records = slices.DeleteFunc(c.records, func(l string) bool { return strings.Contains(l, "loader") })
			delete(c.images, "loader.bin")
			return true
		})},
		"what is to be seen is shown":    {"single", "c", rule("kind: rulebook\n", "kind: rulebook\nchecks_after: [{must_show: '^Region', say: the region is told}]\n")},
		"nobody knows the captures":      {"single", "c", both(capt("Tramline OS", "Another OS"), rule("kind: rulebook\n", "kind: rulebook\nchecks_after: [{must_show: '^Lamp', say: the lamp is green}]\n"))},
		"captures that differ":           {"single", "c", capt("Model: QM-8T", "Model: QM-8T\nModel: QM-9T")},
		"no slots in the capture":        {"single", "c", capt("Slot A 8.2.1\n", "", "Slot B 8.4.2 *\n", "")},
		"members at two versions":        {"stack", "c", capt("Running: 8.4.2\nSettings saved: yes\nSlot A 8.2.1\nSlot B 8.4.2 *", "Running: 8.2.1\nSettings saved: yes\nSlot A 8.2.1 *\nSlot B 8.4.2")},
		"one member does not tell":       {"stack", "c", capt("Running: 8.4.2\nSettings saved: yes\nSlot A 8.2.1\nSlot B 8.4.2 *\n", "Settings saved: yes\n")},
		"a radio that follows":           {"single", "c", radios("8.4.2", "idle")},
		"a radio that stayed behind":     {"single", "c", radios("8.2.1", "idle")},
		"a radio that is still written":  {"single", "c", radios("8.2.1", "running")},
		"no radios in the capture":       {"single", "c", capt("Radio VR-310\nRadio VR-310\n", "")},
		"the build is not told":          {"single", "c", both(rule("version: 8.4.2", "version: 8.4.2-7"), func(*spoilt) bool { return true })},
		"the way back without its build": {"single", "c", dev("main: 8.2.1, active: true", "main: 8.2.1-5, active: true")},
		"no serial number":               {"single", "c", capt("Serial: 0417-221\n", "")},
		"a new name after a reset":       {"single", "c", both(capt("Serial: 0417-221\n", "", "Name: cab", "Name: factory"), rule("    minutes: {install: 12", "    resets_config: true\n    minutes: {install: 12"))},
		"another name, the same number":  {"single", "c", capt("Name: cab", "Name: cub")},
		"another model, the same number": {"single", "c", capt("Model: QM-8T", "Model: QM-24T")},
		"a member nobody knows":          {"stack", "c", func(c *spoilt) bool { c.capture += "Member three\nModel: QM-8T\n"; return true }},
		"little in the capture":          {"single", "c", func(c *spoilt) bool { c.capture = "Tramline OS\nName: cab\nRunning: 8.4.2\n"; return true }},
		"wrapped as it is wanted":        {"single", "v", both(rule("formats: [uimage]", "formats: [uimage], wrapped: true"), file("a.img", demo.TRX(spoilImage(2, 2, "QM-8T 8.4.2", 900))))},
		"bare, and must not be":          {"single", "v", rule("formats: [uimage]", "formats: [uimage], wrapped: true")},
		"wrapped, and must not be":       {"single", "v", file("a.img", demo.TRX(spoilImage(2, 2, "QM-8T 8.4.2", 900)))},
		"an open build in a stack":       {"stack", "m", both(rec("main b.img 8.4.2", "main b.img 8.4.2-7"), func(c *spoilt) bool { c.images["b.img"] = spoilImage(22, 2, "QM-8T 8.4.2-7", 900); return true })},
		"the architecture of a list":     {"single", "m", both(withArch, rec(" feat=vpn", " arch=mips feat=vpn"))},
	}
	// In each respect: only a name speaks, and a weaker source says otherwise.
	for n, v := range map[string][3]string{ // the record's key, the device's value, another
		"revision": {"revs", "A2", "B1"}, "arch": {"arch", "arm", "mips"}, "board": {"boards", "quillmere,qm8t-a", "quillmere,other"}, "family": {"fam", "tram", "duo"},
		"region": {"region", "EU", "US"}, "platform": {"plat", "physical", "virtual"}, "feature": {"feat", "vpn", "voice"}, "hypervisor": {"hyp", "xen", "kvm"}, "model": {"", "QM-8T", ""},
	} {
		byName := func(c *spoilt) bool {
			for i, l := range c.records {
				var kept []string
				for _, f := range strings.Fields(l) {
					if key, _, is := strings.Cut(f, "="); !is || key != v[0] && !(n == "revision" && key == "boards") {
						kept = append(kept, f)
					}
				}
				c.records[i] = strings.Join(kept, " ")
			}
			if n == "family" {
				in(&c.rules, "    families: [tram]\n    brings: {boot: 3.2.0}", "    brings: {boot: 3.2.0}", "families: [tram]\n    revisions", "families: [tram, duo]\n    revisions")
				in(&c.device, "region: EU", "region: EU\nfamily: tram")
			}
			if n == "arch" {
				mainImage(99, "QM-8T 8.4.2")(c)
			}
			if n == "model" {
				c.heading = "all"
				mainImage(2, "system")(c)
				in(&c.rules, "heading: '^\\[(?P<models>[^\\]]+)\\]$'", "heading: '^\\[(?P<build>[^\\]]+)\\]$'")
				for i := range c.records {
					in(&c.records[i], "boards=quillmere,qm8t-a", "")
				}
			}
			c.name = v[1] + "_" + c.name
			return in(&c.rules, "file: '^(?:old-)?qm-", "file: '^(?P<"+n+">"+v[1]+")_(?:old-)?qm-")
		}
		out["only a name speaks of the "+n] = turn{"single", "m", byName}
		out["a name is trusted for the "+n] = turn{"single", "m", both(byName, func(c *spoilt) bool { c.flags = append(c.flags, "-trust-names"); return true })}
		if v[2] == "" {
			continue
		}
		out["a list says otherwise of the "+n] = turn{"single", "m", func(c *spoilt) bool {
			withArch(c)
			in(&c.rules, "    signature: {item: '**/m.sig', of: manifest, key: maker.pem}\n", "")
			for i, l := range c.records {
				var kept []string
				for _, f := range strings.Fields(l) {
					if key, _, is := strings.Cut(f, "="); is && (key == v[0] || n == "revision" && key == "boards") {
						continue
					}
					kept = append(kept, f)
				}
				at := 3
				for k, f := range kept {
					if key, _, is := strings.Cut(f, "="); is && slices.Index([]string{"revs", "boards", "fam", "region", "plat", "arch", "feat", "hyp"}, key) < slices.Index([]string{"revs", "boards", "fam", "region", "plat", "arch", "feat", "hyp"}, v[0]) {
						at = k + 1
					}
				}
				c.records[i] = strings.Join(slices.Insert(kept, at, v[0]+"="+v[2]), " ")
			}
			title := v[1] + " 8.4.2"
			if n == "arch" {
				return mainImage(2, "QM-8T 8.4.2")(c)
			}
			mainImage(2, title)(c)
			return in(&c.rules, `title: '^(?P<model>QM\S+) (?P<version>\S+)$'`, `title: '^(?P<`+n+`>\S+) (?P<version>\S+)$'`)
		}}
	}
	return out
}()
