package main

import (
	"compress/gzip"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// maker fetches and makes what is measured, once.
type maker struct{ dir string }

// packages are those of Debian that hold kernels and RAM disks of three architectures.
var packages = []string{"debian-installer-12-netboot-amd64", "debian-installer-12-netboot-arm64", "debian-installer-12-netboot-armhf", "linux-image-6.1.0-47-amd64-unsigned"}

func (m *maker) at(name string) string { return filepath.Join(m.dir, name) }

// sh runs a shell command in the folder, unless what it makes is there.
func (m *maker) sh(makes, command string) string {
	if _, err := os.Stat(m.at(makes)); err == nil {
		return m.at(makes)
	}
	c := exec.Command("sh", "-ec", command)
	c.Dir, c.Stderr = m.dir, os.Stderr
	must(c.Run())
	return m.at(makes)
}

// images lists the kernels and RAM disks of the packages that were fetched, by a short name.
func (m *maker) images() map[string]string {
	out := map[string]string{}
	for _, p := range packages {
		m.sh("x/"+p, fmt.Sprintf("apt-get download %s >/dev/null; mkdir -p x; dpkg-deb -x %s_*.deb x/%s", p, p, p))
	}
	must(filepath.WalkDir(m.at("x"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		parts := strings.Split(path, "/")
		switch name := d.Name(); {
		case name == "initrd.gz" || name == "linux" || name == "vmlinuz":
			out[strings.Join(parts[len(parts)-4:len(parts)-3], "")+"-"+parts[len(parts)-2]+"-"+name] = path
		case strings.HasPrefix(name, "vmlinuz-"):
			out["desktop-vmlinuz"] = path
		}
		return nil
	}))
	return out
}

// folder links files under names into a folder.
func (m *maker) folder(name string, files map[string]string) (bytes int64) {
	must(os.MkdirAll(m.at(name), 0o755))
	for as, from := range files {
		info, err := os.Stat(from)
		must(err)
		bytes += info.Size()
		if err := os.Link(from, filepath.Join(m.at(name), as)); err != nil && !os.IsExist(err) {
			must(err)
		}
	}
	return bytes
}

// inside is how many bytes the RAM disks among the files hold, once inflated: the whole of them is
// read, since their checksums stand at their ends.
func inside(files map[string]string) (bytes int64) {
	for _, path := range files {
		if !strings.HasSuffix(path, "initrd.gz") {
			continue
		}
		f, err := os.Open(path)
		must(err)
		z, err := gzip.NewReader(f)
		must(err)
		n, err := io.Copy(io.Discard, z)
		must(err)
		f.Close()
		bytes += n
	}
	return bytes
}

func size(path string) int64 {
	info, err := os.Stat(path)
	must(err)
	return info.Size()
}

// speeds are those of SHA-256 and of inflating, in bytes a second of one core.
func (m *maker) speeds() (hash, inflate float64) {
	f := m.at("copies.tar")
	n := float64(size(f))
	var h, i []cost
	m.sh("copies.tar.gz", "gzip -6 -k copies.tar")
	for range 3 {
		h = append(h, run([]int{0}, "sha256sum", f))
		i = append(i, run([]int{0}, "sh", "-c", "gzip -dc "+m.at("copies.tar.gz")+" >/dev/null"))
	}
	return n / median(h).cpu.Seconds(), n / median(i).cpu.Seconds()
}

// rows makes the files, and lists what is measured on them.
//
// In one piece: the rows, one after the other.
func (m *maker) rows(fitcheck string) []row {
	all := m.images()
	name := func(arch, kind, file string) string {
		for k, p := range all {
			if strings.Contains(p, arch) && strings.Contains(p, kind) && strings.HasSuffix(k, file) {
				return p
			}
		}
		must(fmt.Errorf("no %s %s %s was fetched", arch, kind, file))
		return ""
	}
	one := map[string]string{
		"amd64.initrd": name("amd64", "/gtk/", "initrd.gz"), "amd64.linux": name("amd64", "/gtk/", "linux"),
		"armhf.initrd": name("armhf", "/text/", "initrd.gz"), "armhf.linux": name("armhf", "/text/", "vmlinuz"), "arm64.linux": name("arm64", "/gtk/", "linux"),
	}
	distinct := map[string]string{"desktop.linux": all["desktop-vmlinuz"], "amd64-text.initrd": name("amd64", "/text/", "initrd.gz"), "arm64-text.initrd": name("arm64", "/text/", "initrd.gz")}
	copies := map[string]string{}
	for k, p := range one {
		copies["a-"+k], copies["b-"+k], distinct[k] = p, p, p
	}
	copied, uncopied := m.folder("copies", copies), m.folder("distinct", distinct)
	pack := func(name, command string) string { return m.sh(name, command) }
	zipC, zipD := pack("copies.zip", "cd copies && zip -q -6 ../copies.zip *"), pack("distinct.zip", "cd distinct && zip -q -6 ../distinct.zip *")
	pack("copies.tar", "tar -cf copies.tar copies")
	tar := pack("distinct.tar", "tar -cf distinct.tar distinct")
	files := map[string]string{}
	for ext, command := range map[string]string{"tar.gz": "gzip -6 -k distinct.tar", "tar.zst": "zstd -q -9 -k distinct.tar", "tar.xz": "xz -3 -k -T2 --block-size=100MiB distinct.tar", "tar.bz2": "bzip2 -k distinct.tar", "7z": "cd distinct && 7zz a -mx=3 -bso0 ../distinct.7z ."} {
		files[ext] = pack("distinct."+ext, command)
	}
	squash := pack("tree.squashfs", treeCommand)
	iso := pack("mini.iso", "mkdir -p iso && cp -r x/debian-installer-12-netboot-amd64/usr/lib/debian-installer/images/12/amd64/* iso/ && xorriso -as mkisofs -quiet -R -J -o mini.iso iso 2>/dev/null || genisoimage -quiet -R -J -o mini.iso iso")
	survey := func(path string, more ...string) []string {
		return append([]string{fitcheck, "survey", "-q", path}, more...)
	}
	out := []row{
		{name: "full survey of a zip with copies", ours: survey(zipC), reference: "unzip -p " + zipC + " | sha256sum", wall: 0.45, memory: 96, hashed: size(zipC), inflated: copied/2 + inside(one), size: size(zipC)},
		{name: "the same without equal entries", ours: survey(zipD), reference: "unzip -p " + zipD + " | sha256sum", wall: 0.95, cpu: 1.3, memory: 96, hashed: size(zipD), inflated: uncopied + inside(distinct), size: size(zipD)},
		{name: "tar.gz", ours: survey(files["tar.gz"]), reference: "gzip -dc " + files["tar.gz"] + " | sha256sum", wall: 1, cpu: 0.9},
		{name: "tar.zst", ours: survey(files["tar.zst"]), reference: "zstd -dc " + files["tar.zst"] + " | sha256sum", wall: 1, cpu: 0.9},
		{name: "tar", ours: survey(tar), reference: "sha256sum < " + tar, wall: 1, cpu: 1.25},
		{name: "tar.xz", ours: survey(files["tar.xz"]), reference: "xz -dc -T1 " + files["tar.xz"] + " | sha256sum", wall: 1, cpu: 1.5},
		{name: "tar.bz2", ours: survey(files["tar.bz2"]), reference: "bzip2 -dc " + files["tar.bz2"] + " | sha256sum", wall: 1, cpu: 1.5},
		{name: "7z", ours: survey(files["7z"]), reference: "7zz x -so " + files["7z"] + " | sha256sum", wall: 1, cpu: 1.5},
		{name: "a SquashFS of 20 000 files, -contents", ours: survey(squash, "-contents"), reference: "unsquashfs -cat " + squash + " $(cat " + m.at("tree.names") + ") | sha256sum", cpu: 1.3, memory: 96},
		{name: "an ISO with an installer", ours: survey(iso), reference: fmt.Sprintf("sha256sum %s; find %s -type f -exec sha256sum {} +", iso, m.at("iso")), cpu: 1.5},
	}
	for _, f := range []string{zipC, zipD, tar, files["tar.gz"], files["tar.xz"], files["7z"], squash, iso} {
		out = append(out, row{name: "survey -quick, " + filepath.Base(f), ours: survey(f, "-quick"), seconds: 0.06})
	}
	m.book()
	out = append(out,
		row{name: "start", ours: []string{fitcheck, "version"}, seconds: 0.015},
		row{name: "rulebook check, 10 000 releases, 1 000 rules", ours: []string{fitcheck, "rulebook", "check", m.at("book/rulebooks/big.yaml")}, seconds: 1, cpuOnly: true},
		row{name: "path in it", ours: []string{fitcheck, "path", "-kit", m.at("book"), "-device", "x", "-to", "10.99.9"}, seconds: 0.5, cpuOnly: true})
	m.fleet()
	m.shelf()
	advice := []string{fitcheck, "match", "-kit", m.at("shelf"), "-device", "ap", m.at("shelf/packages/rxb-1.0.0.zip")}
	run(nil, advice...) // the first time
	return append(out,
		row{name: "a misfit's advice in a kit of 500 packages, second time", ours: advice, seconds: 0.5},
		row{name: "1 000 devices × 50 packages", ours: m.many(fitcheck), seconds: 5, memory: 256},
		row{name: "TFTP, 1 MB at 1428, 5 % lost each way", ours: []string{own(), "-transfer"}, seconds: 2})
}

// many is the command for many devices and packages.
func (m *maker) many(fitcheck string) []string {
	return []string{fitcheck, "match", "-json", "-kit", m.at("fleet"), "-device", m.at("fleet/devices"), m.at("fleet/packages")}
}

// sizeOfJSON is what it prints, in MB.
func (m *maker) sizeOfJSON(fitcheck string) float64 {
	args := m.many(fitcheck)
	out, err := exec.Command(args[0], args[1:]...).Output()
	if len(out) == 0 {
		must(err)
	}
	return float64(len(out)) / 1e6
}

// own is the path of this program, which measures parts of itself as programs of their own.
func own() string {
	path, err := os.Executable()
	must(err)
	return path
}

// treeCommand makes a SquashFS of 20 000 files out of the kernel's modules and their pieces.
const treeCommand = `mkdir -p tree; i=0
find x/linux-image-6.1.0-47-amd64-unsigned -type f -name '*.ko' | sort | head -2500 | while read f; do
  i=$((i+1)); mkdir -p tree/d$((i%50)); split -n 8 -d "$f" tree/d$((i%50))/m$i.
done
mksquashfs tree tree.squashfs -quiet -no-progress -comp gzip
(cd tree && find . -type f | sed 's|^\./||') > tree.names`

// book writes a kit with a rulebook of very many releases.
func (m *maker) book() {
	for _, d := range []string{"rulebooks", "devices"} {
		must(os.MkdirAll(m.at("book/"+d), 0o755))
	}
	var b strings.Builder
	b.WriteString("kind: rulebook\ntitle: big\nsources: {S: notes}\nmodels:\n  QM-8T: {families: [t]}\nfamilies:\n  t: {components: {boot: {optional: true}, main: {}}}\nversions:\n  default: {pattern: '^(?P<a>\\d+)\\.(?P<b>\\d+)\\.(?P<c>\\d+)$', order: [a, b, c]}\nreleases:\n")
	for n := range 10_000 {
		fmt.Fprintf(&b, "  - {version: %d.%d.%d, families: [t], brings: {main: %[1]d.%d.%d, boot: 1.%[2]d.0}, needs: [{component: boot, within: '>=1.0.%[2]d', source: S}]}\n", 1+n/1000, n/10%100, n%10)
	}
	b.WriteString("hops:\n  upward: open\n  downward: closed\n  rules:\n")
	for n := range 1000 {
		fmt.Fprintf(&b, "    - {from: '>=%d.%d.0 <%[1]d.%[2]d.5', to: '>=%[3]d.0.0', allow: %[4]v, source: S}\n", 1+n/100, n%100, 2+n/100, n%2 == 1)
	}
	must(os.WriteFile(m.at("book/rulebooks/big.yaml"), []byte(b.String()), 0o644))
	must(os.WriteFile(m.at("book/devices/x.yaml"), []byte("kind: device\nname: x\nmodel: QM-8T\ninstalled: {main: 1.0.0, boot: 1.99.0}\n"), 0o644))
}

// radios writes the rules and packages of a kit: n releases from major on, ten to a major, a package for each of two
// revisions. It tells whether that had to be done.
func (m *maker) radios(dir string, major, n int, rules string) bool {
	if _, err := os.Stat(m.at(dir + "/done")); err == nil {
		return false
	}
	for _, d := range []string{"rulebooks", "devices", "packages"} {
		must(os.MkdirAll(m.at(dir+"/"+d), 0o755))
	}
	var b strings.Builder
	b.WriteString(fleetRules())
	for n := range n {
		v := fmt.Sprintf("%d.%d.0", major+n/10, n%10)
		fmt.Fprintf(&b, "  - {version: %s, families: [r], minutes: {install: 6, outage: 3}}\n", v)
		for _, rev := range []string{"A", "B"} {
			must(fleetPackage(m.at(dir+"/packages/rx"+strings.ToLower(rev)+"-"+v+".zip"), v, rev))
		}
	}
	b.WriteString("hops:\n  upward: open\n  downward: closed\n" + rules)
	must(os.WriteFile(m.at(dir+"/rulebooks/r.yaml"), []byte(b.String()), 0o644))
	return true
}

// made notes that a kit is complete.
func (m *maker) made(dir string) {
	must(os.WriteFile(m.at(dir+"/done"), []byte(time.Now().Format(time.RFC3339)), 0o644))
}

// shelf writes a kit of one device and 500 packages.
func (m *maker) shelf() {
	if !m.radios("shelf", 1, 250, "") {
		return
	}
	must(os.WriteFile(m.at("shelf/devices/ap.yaml"), []byte("kind: device\nname: ap\nmodel: RX-1\nrevision: A\ninstalled: {main: 1.0.0}\n"), 0o644))
	m.made("shelf")
}

// fleet writes a kit of 1 000 devices of 12 kinds, and 50 packages of six models.
func (m *maker) fleet() {
	if !m.radios("fleet", 4, 25, "  rules:\n    - {from: '<5.0.0', to: '>=6.0.0', allow: false, source: S}\n") {
		return
	}
	for i := range 1000 {
		text := fmt.Sprintf("kind: device\nname: ap-%04d\nmodel: RX-%d\nrevision: %s\nserial: \"77-%[1]d\"\ninstalled: {main: 4.1.0}\n", i+1, i%6+1, []string{"A", "B"}[i/6%2])
		must(os.WriteFile(m.at(fmt.Sprintf("fleet/devices/ap-%04d.yaml", i+1)), []byte(text), 0o644))
	}
	m.made("fleet")
}

// fleetRules begins the rulebook of six models in two revisions, up to its releases.
func fleetRules() string {
	var b strings.Builder
	b.WriteString("kind: rulebook\ntitle: fleet\nsources: {S: notes}\nmodels:\n")
	for k := range 6 {
		fmt.Fprintf(&b, "  RX-%d: {families: [r], revisions: {A: {arch: arm}, B: {arch: arm64}}}\n", k+1)
	}
	b.WriteString("families: {r: {components: {main: {title: system}}}}\nversions:\n  default: {pattern: '^(?P<a>\\d+)\\.(?P<b>\\d+)\\.(?P<c>\\d+)$', order: [a, b, c]}\npackages:\n  - title: bundle\n    file: '^rx[ab]-(?P<version>[\\d.]+)\\.zip$'\n    manifest: {item: '**/list.txt', form: lines, record: '^(?P<file>\\S+) (?P<model>\\S+) (?P<revision>\\S+) (?P<version>\\S+) (?P<sha256>\\w+)$'}\nreleases:\n")
	return b.String()
}
