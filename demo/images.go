package demo

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"hash/crc32"
	"io/fs"
	"math/rand/v2"
	"strings"
	"sync"
	"time"
)

// made is the time that everything in the kit bears.
var made = time.Date(2026, 9, 30, 4, 15, 0, 0, time.UTC)

// Numbers of U-Boot's include/image.h.
const (
	arm   = 2
	arm64 = 22

	osLinux      = 5
	osUBoot      = 17
	typeKernel   = 2
	typeFirmware = 5
)

// UImage builds a U-Boot legacy image with right checksums.
func UImage(os, arch, kind byte, title string, payload []byte) []byte {
	h := make([]byte, 64)
	be := binary.BigEndian
	be.PutUint32(h[0:], 0x27051956)
	be.PutUint32(h[8:], uint32(made.Unix()))
	be.PutUint32(h[12:], uint32(len(payload)))
	be.PutUint32(h[16:], 0x80008000)
	be.PutUint32(h[20:], 0x80008000)
	be.PutUint32(h[24:], crc32.ChecksumIEEE(payload))
	h[28], h[29], h[30] = os, arch, kind
	copy(h[32:], title)
	be.PutUint32(h[4:], crc32.ChecksumIEEE(h))
	return append(h, payload...)
}

func mainImage(model, version string, arch byte) []byte {
	return UImage(osLinux, arch, typeKernel, model+" "+version, payload(model+version+fmt.Sprint(arch), 640<<10))
}

func bootImage(model, version string, arch byte) []byte {
	return UImage(osUBoot, arch, typeFirmware, model+" "+version, payload("boot"+model+version+fmt.Sprint(arch), 180<<10))
}

// payload makes bytes that look like code: half of it repeats, half does not.
func payload(seed string, size int) []byte {
	r := rand.New(rand.NewChaCha8(sha256.Sum256([]byte(seed))))
	out := make([]byte, 0, size)
	for len(out) < size {
		if r.IntN(2) == 0 || len(out) < 64 {
			for range 32 {
				out = append(out, byte(r.Uint32()))
			}
		} else {
			at := r.IntN(len(out) - 32)
			out = append(out, out[at:at+32]...)
		}
	}
	return out[:size]
}

// signingKey is Quillmere's: made from a text that everybody knows, since the
// kit must come out the same every time. It protects nothing.
var signingKey = sync.OnceValue(func() ed25519.PrivateKey {
	seed := sha256.Sum256([]byte("Quillmere demo signing key"))
	return ed25519.NewKeyFromSeed(seed[:])
})

// publicKey is its public half, as PEM.
func publicKey() []byte {
	der, err := x509.MarshalPKIXPublicKey(signingKey().Public())
	must(err)
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})
}

// hostile is a package that means harm: names that climb out, a link, and two
// files of one name.
func hostile() []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	add := func(name string, mode fs.FileMode, data string) {
		h := &zip.FileHeader{Name: name, Method: zip.Deflate, Modified: made}
		h.SetMode(mode)
		e, err := w.CreateHeader(h)
		must(err)
		_, err = e.Write([]byte(data))
		must(err)
	}
	add("qm8t.img", 0o644, string(mainImage("QM-8T", "8.4.2", arm)[:2000]))
	add("../../../../etc/cron.d/update", 0o644, "* * * * * root sh /tmp/u\n")
	add("C:\\boot\\loader.bin", 0o644, "x")
	add("latest", fs.ModeSymlink|0o777, "/etc/shadow")
	add("notes\u202egpj.exe", 0o644, "x")
	add("qm8t.img", 0o644, "another")
	must(w.Close())
	return b.Bytes()
}

type entry struct {
	name string
	data []byte
}

func bundle(name, release string, b1 bool) []byte {
	dir := name + "/"
	files := []entry{
		{name: "qm_manifest.txt"},
		{"release-notes.txt", []byte(notesText)},
		{"boot/qm8t-boot-a.bin", bootImage("QM-8T", "3.2.0", arm)},
		{"qm8t-a.img", mainImage("QM-8T", release, arm)},
		{"qm24t.img", mainImage("QM-24T", release, arm)},
		{"poe/qm-poe-a.qmi", PoEImage(0x0801, 0b00011, "2.2", payload("poe a 2.2", 40<<10))},
		{"extras/mibs.tgz", tgz(entry{"QUILLMERE-TRAM-MIB.txt", []byte("QUILLMERE-TRAM-MIB DEFINITIONS ::= BEGIN\nEND\n")})},
	}
	if b1 {
		files = append(files, entry{"boot/qm8t-boot-b.bin", bootImage("QM-8T", "3.2.0", arm64)}, entry{"qm8t-b.img", mainImage("QM-8T", release, arm64)},
			entry{"poe/qm-poe-b.qmi", PoEImage(0x0802, 0b10000, "2.2", payload("poe b 2.2", 40<<10))})
	}
	images := map[string][]byte{}
	for _, f := range files {
		images[f.name] = f.data
	}
	files[0].data = []byte(manifestText(release, b1, images))
	files = append(files, entry{"qm_manifest.sig", ed25519.Sign(signingKey(), files[0].data)})
	var sums strings.Builder
	for _, f := range files {
		fmt.Fprintf(&sums, "%x  %s\n", sha256.Sum256(f.data), f.name)
	}
	files = append(files, entry{"qm.sha256", []byte(sums.String())})
	for i := range files {
		files[i].name = dir + files[i].name
	}
	return zipped(files...)
}

func zipped(files ...entry) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range files {
		e, err := w.CreateHeader(&zip.FileHeader{Name: f.name, Method: zip.Deflate, Modified: made})
		must(err)
		_, err = e.Write(f.data)
		must(err)
	}
	must(w.Close())
	return b.Bytes()
}

// PoEImage builds an image with Quillmere's own header, as layouts/qmi.yaml
// describes it.
func PoEImage(board uint16, revisions uint32, version string, payload []byte) []byte {
	const size = 48
	h := make([]byte, size)
	be := binary.BigEndian
	copy(h, "QMI1")
	be.PutUint16(h[4:], size)
	be.PutUint16(h[6:], board)
	be.PutUint32(h[8:], revisions)
	copy(h[12:28], version)
	be.PutUint32(h[28:], uint32(made.Unix()))
	be.PutUint32(h[32:], uint32(len(payload)))
	be.PutUint32(h[36:], crc32.ChecksumIEEE(payload))
	be.PutUint32(h[40:], crc32.ChecksumIEEE(h))
	return append(h, payload...)
}

// flashDump is what was read out of a switch's flash chip: two images, with
// erased flash, an environment of text and noise between them.
func flashDump() []byte {
	var b []byte
	erased := func(to int) {
		for len(b) < to {
			b = append(b, 0xff)
		}
	}
	b = append(b, bootImage("QM-8T", "3.1.4", arm)...)
	erased(256 << 10)
	for i := range 300 {
		b = append(b, fmt.Sprintf("slot_%03d=A\nboot_count_%03d=%d\n", i, i, i*7)...)
	}
	erased(320 << 10)
	b = append(b, mainImage("QM-8T", "8.2.1", arm)...)
	erased(1 << 20)
	b = append(b, gzipped(payload("log", 90<<10))...)
	b = append(b, make([]byte, 40<<10)...)
	b = append(b, Tree(17, Node{Props: []Prop{{"model", "Quillmere QM-8T"}, {"compatible", []string{"quillmere,qm8t-a", "quillmere,qm"}}}})...)
	erased(1280 << 10)
	return b
}

func gzipped(data []byte) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, err := z.Write(data)
	must(err)
	must(z.Close())
	return b.Bytes()
}

func tgz(files ...entry) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for _, f := range files {
		must(w.WriteHeader(&tar.Header{Name: f.name, Mode: 0o644, Size: int64(len(f.data)), ModTime: made}))
		_, err := w.Write(f.data)
		must(err)
	}
	must(w.Close())
	must(z.Close())
	return b.Bytes()
}

// must: writing to memory does not fail.
func must(err error) {
	if err != nil {
		panic(err)
	}
}
