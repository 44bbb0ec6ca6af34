package e2e

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"hash/crc32"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// forms are one manifest in every form, and how a rulebook describes it.
var forms = map[string]struct{ file, rule, text string }{
	"lines": {"m.txt", `{item: '**/m.txt', form: lines, heading: '^\[(?P<models>[^\]]+)\]$', record: '^(?P<component>\w+) (?P<file>\S+) (?P<version>\S+) revs=(?P<revisions>\S+) (?P<sha256>\S+)$'}`,
		"[QM-8T]\nmain a.img 8.4.2 revs=A1,A2 SHA\n[QM-24T]\nmain b.img 8.4.2 revs=A1 SHB\n"},
	"json": {"m.json", `{item: '**/m.json', form: json, groups: platforms.*, group_fields: {models: names}, records: images.*, fields: {component: role, file: path, version: ver, revisions: revs, sha256: hash}}`,
		"{\"platforms\": [\n\t{\"names\": [\"QM-8T\"],\n\t \"images\": [{\"role\": \"main\", \"path\": \"a.img\", \"ver\": \"8.4.2\", \"revs\": [\"A1\", \"A2\"], \"hash\": \"SHA\"}]},\n\t{\"names\": [\"QM-24T\"],\n\t \"images\": [{\"role\": \"main\", \"path\": \"b.img\", \"ver\": \"8.4.2\", \"revs\": [\"A1\"], \"hash\": \"SHB\"}]}]}\n"},
	"yaml": {"m.yaml", `{item: '**/m.yaml', form: yaml, groups: '*', group_fields: {models: names}, records: images.*, fields: {component: role, file: path, version: ver, revisions: revs, sha256: hash}}`,
		"- names: [QM-8T]\n  images:\n    - {role: main, path: a.img, ver: 8.4.2, revs: [A1, A2], hash: SHA}\n- names: [QM-24T]\n  images:\n    - {role: main, path: b.img, ver: 8.4.2, revs: A1, hash: SHB}\n"},
	"xml": {"m.xml", `{item: '**/m.xml', form: xml, groups: release.platform, group_fields: {models: '@names'}, records: image, fields: {component: '@role', file: '@path', version: ver, revisions: revs, sha256: hash}}`,
		"<?xml version='1.0'?>\n<release>\n <platform names='QM-8T'>\n  <image role='main' path='a.img'><ver>8.4.2</ver><revs>A1 A2</revs><hash>SHA</hash></image>\n </platform>\n <platform names='QM-24T'>\n  <image role='main' path='b.img'><ver>8.4.2</ver><revs>A1</revs><hash>SHB</hash></image>\n </platform>\n</release>\n"},
	"csv": {"m.csv", `{item: '**/m.csv', form: csv, fields: {models: For, component: Role, file: File, version: Version, revisions: Revisions, sha256: Hash}}`,
		"For,Role,File,Version,Revisions,Hash\nQM-8T,main,a.img,8.4.2,\"A1,A2\",SHA\nQM-24T,main,b.img,8.4.2,A1,SHB\n"},
	"ini": {"m.ini", `{item: '**/m.ini', form: ini, fields: {file: $section, models: for, component: role, version: version, revisions: revs, sha256: hash}}`,
		"; made up\n[a.img]\nfor = QM-8T\nrole = main\nversion = 8.4.2\nrevs = A1, A2\nhash = SHA\n\n[b.img]\nfor = QM-24T\nrole = main\nversion = 8.4.2\nrevs = A1\nhash = SHB\n"},
	"json by its own keys": {"m.json", `{item: '**/m.json', form: json}`,
		`{"files": [{"models": "QM-8T", "component": "main", "file": "a.img", "version": "8.4.2", "revisions": "A1-A2", "sha256": "SHA"}, {"models": "QM-24T", "component": "main", "file": "b.img", "version": "8.4.2", "revisions": "A1", "sha256": "SHB"}]}`},
}

const formRules = `kind: rulebook
title: T
models:
  QM-8T: {families: [f], revisions: {A1: {arch: arm, boards: [a]}, A2: {arch: arm, boards: [a]}, B1: {arch: arm64, boards: [b]}}}
  QM-24T: {families: [f], revisions: {A1: {arch: arm, boards: [c]}}}
families: {f: {components: {main: {}}}}
versions: {default: natural}
packages:
  - {title: bundle, file: '^p\.zip$', manifest: MANIFEST}
releases: [{version: "8.4.2", families: [f]}, {version: "8.2.1", families: [f]}]
hops: {upward: open, downward: closed}
`

func formKit(t *testing.T, rule string) string {
	t.Helper()
	dir := t.TempDir()
	program.Write(t, dir, "rulebooks/r.yaml", []byte(strings.Replace(formRules, "MANIFEST", rule, 1)))
	program.Write(t, dir, "devices/d.yaml", []byte("kind: device\nname: d\nmodel: QM-8T\nrevision: A2\ninstalled: {main: 8.2.1}\n"))
	return dir
}

// The same package, described in any form, comes to the same verdict with the
// same checks; so it does when something in it is wrong.
func TestManifestForms(t *testing.T) {
	t.Parallel()
	a, b := uimage(2, "one", []byte("payload a")), uimage(2, "two", []byte("payload b"))
	sum := func(d []byte) string { return fmt.Sprintf("%x", sha256.Sum256(d)) }
	for what, change := range map[string]func(files map[string][]byte, device *string){
		"fits":           func(map[string][]byte, *string) {},
		"wrong revision": func(_ map[string][]byte, d *string) { *d = strings.Replace(*d, "A2", "B1", 1) },
		"wrong digest":   func(f map[string][]byte, _ *string) { f["a.img"] = uimage(2, "one", []byte("payload x")) },
		"missing":        func(f map[string][]byte, _ *string) { delete(f, "a.img") },
		"other missing":  func(f map[string][]byte, _ *string) { delete(f, "b.img") },
	} {
		var want []string
		for name, form := range forms {
			dir := formKit(t, form.rule)
			text := strings.NewReplacer("SHA", sum(a), "SHB", sum(b)).Replace(form.text)
			files := map[string][]byte{form.file: []byte(text), "a.img": a, "b.img": b}
			device := readFile(t, dir, "devices/d.yaml")
			change(files, &device)
			program.Write(t, dir, "devices/d.yaml", []byte(device))
			program.Write(t, dir, "p.zip", program.ZipOf(t, files))
			r := program.Call(t, dir, "match", "-json", "-device", "d", "p.zip")
			doc := program.One(t, r)
			got := []string{fmt.Sprint("exit ", r.Status), doc["verdict"].(string)}
			for _, c := range at(t, doc, "members", 0, "checks").([]any) {
				got = append(got, fmt.Sprint(at(t, c, "check"), " ", at(t, c, "outcome")))
			}
			if want == nil {
				want = got
			}
			assert.Equal(t, want, got, "%s in the form %s", what, name)
			if what == "wrong revision" {
				assert.Equal(t, "misfit", doc["verdict"])
				for _, c := range at(t, doc, "members", 0, "checks").([]any) {
					if at(t, c, "check") == "revision" {
						assert.Regexp(t, `m\.\w+:\d+$`, at(t, c, "sources", 1, "where"), "the record keeps its line")
					}
				}
			}
		}
	}
}

func TestManifestFaults(t *testing.T) {
	t.Parallel()
	for form, c := range map[string]struct{ text, says string }{
		"json": {"{\"platforms\": [\n {\"names\": [}\n", "line 2"},
		"yaml": {"- names: [QM-8T]\n  images: {\n", "YAML"},
		"xml":  {"<release>\n<platform>\n</release>\n", "line 3"},
		"csv":  {"For,Role,File\na,b,c,d\n", "line 2"},
		"ini":  {"[a.img\nfor = x\n", "INI"},
	} {
		f := forms[form]
		dir := formKit(t, f.rule)
		program.Write(t, dir, "p.zip", program.ZipOf(t, map[string][]byte{f.file: []byte(c.text), "a.img": uimage(2, "one", []byte("x"))}))
		r := program.Call(t, dir, "match", "-device", "d", "p.zip")
		assert.NotEqual(t, 0, r.Status, form)
		assert.Contains(t, r.Out, c.says, form)
		assert.Contains(t, r.Out, "does not read as", form)
	}
}

// Without a rulebook a manifest that is plainly one is shown all the same, and
// its list of files is checked.
func TestManifestWithoutRulebook(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	program.Write(t, dir, "p.zip", program.ZipOf(t, map[string][]byte{"release.json": []byte(`{"images": [{"file": "a.img", "version": "8.4.2", "size": 3}, {"file": "gone.img"}]}`), "a.img": []byte("four")}))
	r := program.Call(t, dir, "survey", "p.zip")
	assert.Equal(t, 1, r.Status)
	assert.Contains(t, r.Out, "read as JSON by its own keys")
	assert.Contains(t, r.Out, "lists gone.img, which is not in the package")
	assert.Contains(t, r.Out, "it has 4 bytes, and ::release.json:1 says 3")
}

func TestChecksumLists(t *testing.T) {
	t.Parallel()
	data := []byte("what is listed")
	for name, list := range map[string]string{
		"plain md5":    fmt.Sprintf("%x  a.bin\n", md5.Sum(data)),
		"plain sha512": fmt.Sprintf("%x *a.bin\n", sha512.Sum512(data)),
		"tagged":       fmt.Sprintf("SHA1 (a.bin) = %x\nSHA384 (a.bin) = %x\n", sha1.Sum(data), sha512.Sum384(data)),
		"tagged crc":   fmt.Sprintf("CRC32 (a.bin) = %08x\n", crc32.ChecksumIEEE(data)),
		"other tag":    fmt.Sprintf("SHA2-256(a.bin)= %x\n", sha256.Sum256(data)),
	} {
		dir := t.TempDir()
		program.Write(t, dir, "p.zip", program.ZipOf(t, map[string][]byte{"SUMS": []byte(list), "a.bin": data}))
		r := program.Call(t, dir, "survey", "p.zip")
		assert.Equal(t, 0, r.Status, name+r.Out)
		assert.Contains(t, r.Out, "is the one in ::SUMS:1", name)
		program.Write(t, dir, "p.zip", program.ZipOf(t, map[string][]byte{"SUMS": []byte(list), "a.bin": []byte("what was listed")}))
		r = program.Call(t, dir, "survey", "p.zip")
		assert.Equal(t, 1, r.Status, name)
		assert.Contains(t, r.Out, "is NOT the one in ::SUMS:1", name)
	}

	// A lone one beside the download; weak ones are marked.
	dir := t.TempDir()
	img := uimage(2, "x", []byte("payload"))
	program.Write(t, dir, "d.img", img)
	program.Write(t, dir, "d.img.md5", []byte(fmt.Sprintf("%x\n", md5.Sum(img))))
	r := program.Call(t, dir, "survey", "d.img")
	assert.Equal(t, 0, r.Status)
	assert.Contains(t, r.Out, "md5 (weak) is the one in d.img.md5:1")
	program.Write(t, dir, "d.sha256", []byte(fmt.Sprintf("%x  other.img\n%064d  d.img\n", sha256.Sum256(img), 0)))
	r = program.Call(t, dir, "survey", "d.img")
	assert.Equal(t, 1, r.Status)
	assert.Contains(t, r.Out, "is NOT the one in d.sha256:2")
	program.Write(t, dir, "kit/devices/d.yaml", []byte("kind: device\nname: d\narch: arm\n"))
	r = program.Call(t, dir, "match", "-kit", "kit", "-device", "d", "d.img")
	assert.Equal(t, 1, r.Status)
	assert.Contains(t, r.Out, "d.sha256:2")
}

// Real signatures, made by Debian's tools.
func TestSignaturesOfOtherTools(t *testing.T) {
	t.Parallel()
	tool := func(name string) {
		if _, err := exec.LookPath(name); err != nil {
			t.Skip(name + " is not installed")
		}
	}
	run := func(t *testing.T, dir, name string, args ...string) {
		t.Helper()
		c := exec.Command(name, args...)
		c.Dir = dir
		c.Env = append(os.Environ(), "GNUPGHOME="+filepath.Join(dir, "gnupg"), "LC_ALL=C")
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
	}
	manifest := "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2 SHA\n"
	img := uimage(2, "one", []byte("payload a"))
	manifest = strings.Replace(manifest, "SHA", fmt.Sprintf("%x", sha256.Sum256(img)), 1)
	// check signs the manifest by the commands, and holds the verdict.
	check := func(t *testing.T, scheme, key string, commands ...[]string) {
		dir := formKit(t, forms["lines"].rule)
		rules := strings.Replace(readFile(t, dir, "rulebooks/r.yaml"), "packages:\n  - {title: bundle,", "packages:\n  - {title: bundle, signature: {item: '**/m.sig', of: manifest, key: "+key+scheme+"},", 1)
		program.Write(t, dir, "rulebooks/r.yaml", []byte(rules))
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "gnupg"), 0o700))
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "keys"), 0o755))
		program.Write(t, dir, "m.txt", []byte(manifest))
		for _, c := range commands {
			run(t, dir, c[0], c[1:]...)
		}
		sig, err := os.ReadFile(filepath.Join(dir, "m.sig"))
		require.NoError(t, err)
		match := func(sig, manifest []byte) program.Ran {
			files := map[string][]byte{"m.txt": manifest, "a.img": img}
			if sig != nil {
				files["m.sig"] = sig
			}
			program.Write(t, dir, "p.zip", program.ZipOf(t, files))
			return program.Call(t, dir, "match", "-why", "-device", "d", "p.zip")
		}
		r := match(sig, []byte(manifest))
		require.Equal(t, 0, r.Status, r.Out+r.Errout)
		assert.Contains(t, r.Out, "verif")
		r = match(sig, []byte(strings.Replace(manifest, "8.4.2", "8.4.3", 1)))
		assert.Equal(t, 1, r.Status)
		assert.Contains(t, r.Out, "signature")
		r = match(nil, []byte(manifest))
		assert.Equal(t, 3, r.Status, "expected and missing")
		require.NoError(t, os.Remove(filepath.Join(dir, "keys", key)))
		r = match(sig, []byte(manifest))
		assert.Equal(t, 3, r.Status, "no key")
		assert.Contains(t, r.Out, "keys/")
		program.Write(t, dir, "keys/"+key, []byte("nonsense"))
		r = match(sig, []byte(manifest))
		assert.Equal(t, 4, r.Status, "a key that cannot be read is a fault of the kit")
		assert.Contains(t, r.Errout, "keys/"+key)
	}
	t.Run("openssl", func(t *testing.T) {
		tool("openssl")
		rsa := []string{"openssl", "genrsa", "-out", "k.key", "2048"}
		pub := []string{"openssl", "pkey", "-in", "k.key", "-pubout", "-out", "keys/k.pem"}
		check(t, "", "k.pem", rsa, pub, []string{"openssl", "dgst", "-sha256", "-sign", "k.key", "-out", "m.sig", "m.txt"})
		check(t, ", scheme: rsa-pss-sha512", "k.pem", rsa, pub, []string{"openssl", "dgst", "-sha512", "-sigopt", "rsa_padding_mode:pss", "-sign", "k.key", "-out", "m.sig", "m.txt"})
		check(t, "", "k.pem", []string{"openssl", "ecparam", "-name", "prime256v1", "-genkey", "-noout", "-out", "k.key"}, pub, []string{"openssl", "dgst", "-sha256", "-sign", "k.key", "-out", "m.sig", "m.txt"})
		check(t, "", "k.pem", []string{"openssl", "genpkey", "-algorithm", "ed25519", "-out", "k.key"}, pub, []string{"openssl", "pkeyutl", "-sign", "-inkey", "k.key", "-rawin", "-in", "m.txt", "-out", "m.sig"})
		cert := []string{"openssl", "req", "-batch", "-new", "-x509", "-key", "k.key", "-out", "keys/k.pem", "-subj", "/CN=Quillmere", "-days", "30"}
		check(t, "", "k.pem", rsa, cert, []string{"openssl", "cms", "-sign", "-binary", "-in", "m.txt", "-signer", "keys/k.pem", "-inkey", "k.key", "-outform", "DER", "-out", "m.sig"})
		check(t, "", "k.pem", rsa, cert, []string{"openssl", "cms", "-sign", "-binary", "-in", "m.txt", "-signer", "keys/k.pem", "-inkey", "k.key", "-outform", "PEM", "-out", "m.sig"})
	})
	t.Run("gpg", func(t *testing.T) {
		tool("gpg")
		gen := []string{"gpg", "--batch", "--passphrase", "", "--quick-gen-key", "Quillmere <r@quillmere.example>", "default", "default", "1y"}
		export := []string{"gpg", "--batch", "--output", "keys/k.asc", "--armor", "--export"}
		check(t, "", "k.asc", gen, export, []string{"gpg", "--batch", "--output", "m.sig", "--detach-sign", "m.txt"})
		check(t, "", "k.asc", gen, export, []string{"gpg", "--batch", "--output", "m.sig", "--armor", "--detach-sign", "m.txt"})
	})
	t.Run("FIT", func(t *testing.T) {
		tool("mkimage")
		tool("openssl")
		dir := t.TempDir()
		program.Write(t, dir, "kernel", []byte("a kernel, more or less"))
		program.Write(t, dir, "s.its", []byte(`/dts-v1/; / { description = "VR-310 4.2.0"; #address-cells = <1>; images { k { description = "k"; data = /incbin/("kernel"); type = "kernel"; arch = "arm64"; os = "linux"; compression = "none"; load = <0>; entry = <0>; hash-1 { algo = "sha256"; }; }; };
configurations { default = "c"; c { kernel = "k"; compatible = "velloway,vr310-v2"; signature-1 { algo = "sha256,rsa2048"; key-name-hint = "vel"; sign-images = "kernel"; }; }; }; };`))
		run(t, dir, "openssl", "genrsa", "-out", "vel.key", "2048")
		run(t, dir, "openssl", "req", "-batch", "-new", "-x509", "-key", "vel.key", "-out", "vel.crt", "-subj", "/CN=Velloway", "-days", "30")
		run(t, dir, "mkimage", "-f", "s.its", "-k", ".", "-r", "s.itb")
		r := program.Call(t, dir, "survey", "s.itb")
		assert.Contains(t, r.Out, "no key")
		program.Write(t, dir, "keys/vel.crt", []byte(readFile(t, dir, "vel.crt")))
		r = program.Call(t, dir, "survey", "s.itb")
		assert.Equal(t, 0, r.Status, r.Out)
		assert.Contains(t, r.Out, "::c: verified")
		good := []byte(readFile(t, dir, "s.itb"))
		at := strings.Index(string(good), "velloway,vr310-v2")
		good[at+16] = '3'
		program.Write(t, dir, "s.itb", good)
		r = program.Call(t, dir, "survey", "s.itb")
		assert.Equal(t, 1, r.Status)
		assert.Contains(t, r.Out, "::c: failed")
	})
}

// A kit, its folders, packages and device files may be reached by links.
func TestLinksToFolders(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("links need rights there")
	}
	t.Parallel()
	kit := program.WriteKit(t)
	other := t.TempDir()
	for _, l := range [][2]string{{kit, "kit"}, {kit + "/packages", "downloads"}, {kit + "/devices", "boxes"}, {kit + "/packages/qm-tram-8.4.2.zip", "p.zip"}, {kit + "/devices/cabinet-07.yaml", "cab.yaml"}} {
		require.NoError(t, os.Symlink(l[0], filepath.Join(other, l[1])))
	}
	for _, folder := range []string{"rulebooks", "devices", "packages", "keys", "layouts"} {
		require.NoError(t, os.MkdirAll(filepath.Join(other, "joined"), 0o755))
		require.NoError(t, os.Symlink(filepath.Join(kit, folder), filepath.Join(other, "joined", folder)))
	}
	for _, args := range [][]string{
		{"match", "-kit", "kit", "-device", "cabinet-07", "qm-tram-8.4.2.zip"}, {"match", "-kit", "joined", "-device", "cabinet-07", "qm-tram-8.4.2.zip"},
		{"match", "-kit", kit, "-device", "cab.yaml", "p.zip"}, {"match", "-kit", kit, "-device", "cabinet-07", "downloads"}, {"path", "-kit", "joined", "-device", "depot-core", "-to", "latest"},
	} {
		r := program.Call(t, other, args...)
		assert.Equal(t, 0, r.Status, "%v: %s%s", args, r.Out, r.Errout)
	}
	r := program.Call(t, other, "match", "-brief", "-kit", kit, "-device", "boxes", "p.zip")
	assert.Contains(t, r.Out, "cabinet-07")
}
