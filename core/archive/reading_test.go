package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// entry is a member as the encoders of this file write it: a file, a folder (its name
// ends with "/"), or a symbolic link.
type entry struct{ name, data, link string }

// encoders write an archive of each kind.
var encoders = map[string]func(...entry) []byte{
	"zip": func(all ...entry) []byte {
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		for _, e := range all {
			h := &zip.FileHeader{Name: e.name, Method: zip.Deflate}
			h.SetMode(0o644)
			text := e.data
			if e.link != "" {
				h.SetMode(os.ModeSymlink | 0o777)
				text = e.link
			}
			f, _ := w.CreateHeader(h)
			f.Write([]byte(text))
		}
		w.Close()
		return b.Bytes()
	},
	"tar": func(all ...entry) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, e := range all {
			h := &tar.Header{Name: e.name, Mode: 0o644, Size: int64(len(e.data)), Typeflag: tar.TypeReg}
			if strings.HasSuffix(e.name, "/") {
				h.Typeflag = tar.TypeDir
			}
			if e.link != "" {
				h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, e.link, 0
			}
			w.WriteHeader(h)
			if e.link == "" {
				w.Write([]byte(e.data))
			}
		}
		w.Close()
		return b.Bytes()
	},
	"cpio": func(all ...entry) []byte { return newcOf(all...) },
	"odc":  func(all ...entry) []byte { return odcOf(all...) },
	"ar": func(all ...entry) []byte {
		var files []file
		for _, e := range all {
			files = append(files, file{e.name, e.data})
		}
		return arOf(files...)
	},
	"7z": func(all ...entry) []byte {
		var files []file
		for _, e := range all {
			files = append(files, file{e.name, e.data})
		}
		return sevenZipOf(files...)
	},
	"iso": isoOf,
}

func cpioModeOf(e entry) (mode int, data string) {
	switch {
	case e.link != "":
		return 0o120777, e.link
	case strings.HasSuffix(e.name, "/"):
		return 0o040755, ""
	}
	return 0o100644, e.data
}

func newcOf(all ...entry) []byte {
	var b bytes.Buffer
	for i, e := range append(all, entry{name: "TRAILER!!!"}) {
		mode, data := cpioModeOf(e)
		name := strings.TrimSuffix(e.name, "/")
		fmt.Fprintf(&b, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s\x00", i+1, mode, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(name)+1, 0, name)
		b.Write(make([]byte, -b.Len()&3))
		b.WriteString(data)
		b.Write(make([]byte, -b.Len()&3))
	}
	return b.Bytes()
}

func odcOf(all ...entry) []byte {
	var b bytes.Buffer
	for i, e := range append(all, entry{name: "TRAILER!!!"}) {
		mode, data := cpioModeOf(e)
		name := strings.TrimSuffix(e.name, "/")
		fmt.Fprintf(&b, "070707%06o%06o%06o%06o%06o%06o%06o%011o%06o%011o%s\x00%s", 1, i+1, mode, 0, 0, 1, 0, 0, len(name)+1, len(data), name, data)
	}
	return b.Bytes()
}

// isoOf writes one folder with names as they are given, by Rock Ridge.
func isoOf(all ...entry) []byte { return isoTrees(all, nil) }

// isoTrees writes an ISO 9660 file system with a primary tree and, where one is given,
// a Joliet tree; both are one folder.
func isoTrees(all, joliet []entry) []byte {
	img := make([]byte, 24*isoBlock)
	both32 := func(b []byte, n int) {
		binary.LittleEndian.PutUint32(b, uint32(n))
		binary.BigEndian.PutUint32(b[4:], uint32(n))
	}
	next := 24
	record := func(block, size int, folder bool, name []byte, rock []byte) []byte {
		n := isoRecord + len(name) + (len(name)+1)%2
		r := make([]byte, n, n+len(rock))
		both32(r[2:], block)
		both32(r[10:], size)
		if folder {
			r[25] = 2
		}
		r[28], r[31], r[32] = 1, 1, byte(len(name))
		copy(r[isoRecord:], name)
		r = append(r, rock...)
		if len(r)%2 == 1 {
			r = append(r, 0)
		}
		r[0] = byte(len(r))
		return r
	}
	var data []byte
	tree := func(volume, folder int, all []entry, isJoliet bool) {
		root := record(folder, isoBlock, true, []byte{0}, nil)
		v := img[volume*isoBlock:]
		v[0], v[6] = 1, 1
		copy(v[1:], "CD001")
		if isJoliet {
			v[0] = 2
			copy(v[88:], "%/E")
		}
		v[128], v[131] = 0, 8
		binary.LittleEndian.PutUint16(v[128:], isoBlock)
		binary.BigEndian.PutUint16(v[130:], isoBlock)
		copy(v[156:190], root)
		dir := img[folder*isoBlock : folder*isoBlock : (folder+1)*isoBlock]
		var sp []byte
		if !isJoliet {
			sp = []byte{'S', 'P', 7, 1, 0xbe, 0xef, 0}
		}
		dir = append(dir, record(folder, isoBlock, true, []byte{0}, sp)...)
		dir = append(dir, record(folder, isoBlock, true, []byte{1}, nil)...)
		for i, e := range all {
			var rock, name []byte
			if isJoliet {
				for _, r := range e.name {
					name = binary.BigEndian.AppendUint16(name, uint16(r))
				}
			} else {
				name = fmt.Appendf(nil, "F%d.;1", i)
				mode, _ := cpioModeOf(e)
				px := make([]byte, 36)
				copy(px, "PX\x24\x01")
				both32(px[4:], mode)
				both32(px[12:], 1)
				rock = append(append(px, 'N', 'M', byte(5+len(e.name)), 1, 0), e.name...)
				if e.link != "" {
					rock = append(append(rock, 'S', 'L', byte(5+2+len(e.link)), 1, 0, 0, byte(len(e.link))), e.link...)
				}
			}
			dir = append(dir, record(next, len(e.data), false, name, rock)...)
			if len(e.data) > 0 {
				block := make([]byte, (len(e.data)+isoBlock-1)/isoBlock*isoBlock)
				copy(block, e.data)
				data = append(data, block...)
				next += len(block) / isoBlock
			}
		}
	}
	tree(16, 20, all, false)
	end := 17
	if joliet != nil {
		tree(17, 21, joliet, true)
		end = 18
	}
	copy(img[end*isoBlock:], "\xffCD001\x01")
	out := append(img, data...)
	for v := 16; v < end; v++ {
		both32(out[v*isoBlock+80:], len(out)/isoBlock)
	}
	return out
}

// No archive is sound whose members other programs could take for one another; one
// without such members is.
func TestOneReading(t *testing.T) {
	folders := map[string]bool{"zip": true, "tar": true, "cpio": true, "odc": true}
	for what, c := range map[string]struct {
		all   []entry
		links bool // wants links and folders
		sound bool
	}{
		"different names":       {[]entry{{"a.img", "one", ""}, {"b.img", "two", ""}}, false, true},
		"twins":                 {[]entry{{"a.img", "one", ""}, {"a.img", "two", ""}}, false, false},
		"twins of one content":  {[]entry{{"a.img", "one", ""}, {"a.img", "one", ""}}, false, true},
		"a dot in the name":     {[]entry{{"x/a.img", "one", ""}, {"./x//a.img", "two", ""}}, true, false},
		"case":                  {[]entry{{"a.img", "one", ""}, {"A.IMG", "two", ""}}, false, false},
		"composed accents":      {[]entry{{"\u00e9.img", "one", ""}, {"e\u0301.img", "two", ""}}, false, false},
		"a dot at the end":      {[]entry{{"a.img", "one", ""}, {"a.img.", "two", ""}}, false, false},
		"a link and a file":     {[]entry{{"a.img", "", "b.img"}, {"a.img", "two", ""}}, true, false},
		"a file below a link":   {[]entry{{"x", "", "y"}, {"x/a.img", "one", ""}}, true, false},
		"a file below a file":   {[]entry{{"x", "one", ""}, {"x/a.img", "two", ""}}, true, false},
		"a folder and a file":   {[]entry{{"x/", "", ""}, {"x", "two", ""}}, true, false},
		"a link that stays":     {[]entry{{"x/a.img", "one", ""}, {"x/latest", "", "a.img"}}, true, true},
		"a folder told twice":   {[]entry{{"x/", "", ""}, {"x/", "", ""}, {"x/a.img", "one", ""}}, true, true},
		"a root file system":    {[]entry{{"bin/sh", "one", ""}, {"etc/a", "x", ""}, {"lib/x_y", "one", ""}, {"lib/X_Y", "two", ""}, {"usr/", "", ""}}, true, true},
		"a root with a link in": {[]entry{{"bin", "", "usr/bin"}, {"bin/sh", "one", ""}, {"etc/a", "x", ""}, {"lib/x_y", "one", ""}, {"usr/", "", ""}}, true, true},
	} {
		for kind, encode := range encoders {
			if c.links && !folders[kind] {
				continue
			}
			n, err := walk(t, "p."+kind, encode(c.all...), DefaultLimits())
			require.NoError(t, err, "%s in %s", what, kind)
			damaged := false
			for _, p := range n.problems {
				damaged = damaged || p.Class == Damaged
			}
			assert.Equal(t, !c.sound, damaged, "%s in %s: %v", what, kind, n.problems)
			if c.sound {
				assert.NotEmpty(t, n.items[0].Address, "%s in %s", what, kind)
			}
		}
	}
	n, err := walk(t, "p.iso", isoOf(entry{"a.img", "one", ""}, entry{"a.img", "", "/etc/passwd"}), DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Damaged, "p.iso", "a symbolic link"), "%v", n.problems)
}

// A zip that two programs read differently is not sound, whichever of the two readings
// is the better one.
func TestZipOneReading(t *testing.T) {
	le := binary.LittleEndian
	one, two := encoders["zip"](entry{"a.img", "one", ""}), encoders["zip"](entry{"a.img", "two", ""})
	directory := bytes.Index(one, []byte("PK\x01\x02"))
	end := bytes.LastIndex(one, []byte("PK\x05\x06"))
	patched := func(at int, b ...byte) []byte {
		out := bytes.Clone(one)
		copy(out[at:], b)
		return out
	}
	inserted := func(at int, b []byte) []byte { // before the directory; the offsets follow
		out := append(append(bytes.Clone(one[:at]), b...), one[at:]...)
		e := end + len(b)
		if at <= directory {
			le.PutUint32(out[e+16:], le.Uint32(out[e+16:])+uint32(len(b)))
		}
		return out
	}
	comment := append(patched(end+20, byte(len(two))), two...)
	unicode := func(name string, of string) []byte {
		x := append([]byte{1}, le.AppendUint32(nil, crc32.ChecksumIEEE([]byte(of)))...)
		x = append(x, name...)
		x = append(le.AppendUint16([]byte{0x75, 0x70}, uint16(len(x))), x...)
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		f, _ := w.CreateHeader(&zip.FileHeader{Name: of, Extra: x, Method: zip.Store})
		f.Write([]byte("one"))
		w.Close()
		return b.Bytes()
	}
	// Two directories of one entry: the first where the end record says, the second by its
	// size, with offsets that fit what stands before the entry.
	long := end - directory
	shifted := bytes.Clone(one[directory:end])
	le.PutUint32(shifted[42:], uint32(long))
	twice := append(bytes.Repeat([]byte{'x'}, long), one[:directory]...)
	twice = append(append(append(twice, shifted...), one[directory:end]...), one[end:]...)
	le.PutUint32(twice[len(twice)-6:], uint32(long+directory))
	for what, data := range map[string][]byte{
		"two directories":                       twice,
		"two zips in one file":                  append(bytes.Clone(one), two...),
		"two zips, the first as it would shift": append(bytes.Clone(two), one...),
		"a zip in the comment":                  comment,
		"an entry that is not listed":           inserted(directory, one[:directory]),
		"another size of the directory":         patched(end+12, one[end+12]+4),
		"another place of the directory":        patched(end+16, one[end+16]-8),
		"another number of entries":             patched(end+8, 2, 0, 2, 0),
		"several disks":                         patched(end+4, 1, 0),
		"bytes in the directory":                append(append(bytes.Clone(one[:end]), 'x', 'y', 'z', 'w'), patched(end+12, one[end+12]+4)[end:]...),
		"another CRC behind the data":           patched(directory-16+4, 1, 2, 3, 4),
		"another name in Unicode":               unicode("b.img", "a.img"),
	} {
		n, err := walk(t, "p.zip", data, DefaultLimits())
		require.NoError(t, err, what)
		damaged := false
		for _, p := range n.problems {
			damaged = damaged || p.Class == Damaged
		}
		assert.True(t, damaged, "%s: %v", what, n.problems)
	}

	stub := append([]byte("MZ this program unpacks what follows it"), one...)
	n, err := walk(t, "p.exe", stub, DefaultLimits())
	require.NoError(t, err)
	assert.Equal(t, "one", n.content["p.exe::a.img"])
	assert.True(t, n.says(Note, "p.exe", fmt.Sprintf("begins only after %d bytes", len(stub)-len(one))), "%v", n.problems)
	assert.Len(t, n.problems, 1)

	n, err = walk(t, "p.zip", unicode("\u00e9.img", "\xe9.img"), DefaultLimits())
	require.NoError(t, err)
	assert.Equal(t, "one", n.content["p.zip::\u00e9.img"], "%v", n.problems)

	n, err = walk(t, "p.zip", inserted(directory, []byte("some more")), DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Note, "p.zip", fmt.Sprintf("bytes %d to %d", directory, directory+9)), "a gap is told to the byte: %v", n.problems)

	zero := patched(directory+16, 0, 0, 0, 0)
	copy(zero[directory-12:], []byte{0, 0, 0, 0})
	n, err = walk(t, "p.zip", zero, DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Damaged, "a.img", "CRC-32"), "a CRC of zero is not taken for none: %v", n.problems)
}

func TestTarOneReading(t *testing.T) {
	block := func(name string, kind byte, data string) []byte {
		b := make([]byte, tarBlock)
		copy(b, name)
		copy(b[100:], "0000644\x000000000\x000000000\x00")
		copy(b[124:], fmt.Sprintf("%011o\x0000000000000\x00", len(data)))
		b[156] = kind
		copy(b[257:], "ustar\x0000")
		copy(b[148:], "        ")
		sum := 0
		for _, c := range b {
			sum += int(c)
		}
		copy(b[148:], fmt.Sprintf("%06o\x00 ", sum))
		b = append(b, data...)
		return append(b, make([]byte, (tarBlock-len(data)%tarBlock)%tarBlock)...)
	}
	pax := func(key, value string) string {
		n := len(key) + len(value) + 3
		for n != len(fmt.Sprint(n))+len(key)+len(value)+3 {
			n = len(fmt.Sprint(n)) + len(key) + len(value) + 3
		}
		return fmt.Sprintf("%d %s=%s\n", n, key, value)
	}
	join := func(all ...[]byte) []byte { return append(bytes.Join(all, nil), make([]byte, 2*tarBlock)...) }
	plain := block("a.img", '0', "one")
	for what, c := range map[string]struct {
		data []byte
		says string
	}{
		"names by pax and GNU":         {join(block("x", 'x', pax("path", "b.img")), block("y", 'L', "c.img\x00"), plain), "b.img and c.img"},
		"the same name by both":        {join(block("x", 'x', pax("path", "b.img")), block("y", 'L', "b.img\x00"), plain), ""},
		"two sizes":                    {join(block("x", 'x', pax("size", "512")), block("a.img", '0', "one"), make([]byte, tarBlock)), "its pax record 512"},
		"a name for all that follow":   {join(block("g", 'g', pax("path", "b.img")), plain), "one path"},
		"a comment for all":            {join(block("g", 'g', pax("comment", "b.img")), plain), ""},
		"two names behind a comment":   {join(block("g", 'g', pax("comment", "b.img")), block("x", 'x', pax("path", "b.img")), block("y", 'L', "c.img\x00"), plain), "b.img and c.img"},
		"behind a long comment":        {join(block("g", 'g', pax("comment", strings.Repeat("b", 700))), block("g", 'g', pax("comment", strings.Repeat("b", 512-len("512 comment=\n")))), block("x", 'x', pax("path", "b.img")), block("y", 'L', "c.img\x00"), plain), "b.img and c.img"},
		"a further tar behind the end": {append(join(plain), join(block("a.img", '0', "two"))...), "further tar"},
		"zeros behind the end":         {append(join(plain), make([]byte, 8*tarBlock)...), ""},
	} {
		n, err := walk(t, "p.tar", c.data, DefaultLimits())
		require.NoError(t, err, what)
		if c.says == "" {
			assert.Empty(t, n.problems, what)
		} else {
			assert.True(t, n.says(Damaged, "p.tar", c.says), "%s: %v", what, n.problems)
		}
	}
}

func TestISOOneReading(t *testing.T) {
	main := []entry{{"main.img", "main image", ""}, {"readme.txt", "words", ""}}
	n, err := walk(t, "p.iso", isoTrees(main, nil), DefaultLimits())
	require.NoError(t, err)
	assert.Empty(t, n.problems)
	assert.Equal(t, "main image", n.content["p.iso::main.img"])

	n, err = walk(t, "p.iso", isoTrees(main, []entry{{"main.img", "another one", ""}}), DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Damaged, "p.iso", "two trees hold different files"), "%v", n.problems)

	orders := isoTrees(main, nil)
	record := bytes.Index(orders, []byte("F0.;1")) - isoRecord
	orders[record+13]++ // of the size, by one byte order
	n, err = walk(t, "p.iso", orders, DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Damaged, "p.iso", "two byte orders"), "%v", n.problems)

	circle := isoTrees([]entry{{"x/", "", ""}}, nil)
	record = bytes.Index(circle, []byte("F0.;1")) - isoRecord
	circle[record+25] = 2
	for _, at := range []int{2, 9} {
		circle[record+at] = 20 // the root itself
	}
	n, err = walk(t, "p.iso", circle, DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Damaged, "p.iso", "leads back"), "%v", n.problems)
}

// What is announced beyond the bounds is refused before it is read, sparse files
// included.
func TestRefusedBeforehand(t *testing.T) {
	l := DefaultLimits()
	l.Bytes = 1 << 30
	var bound *BoundError
	old := tarOf(file{"big.img", "0123456789"}) // GNU's old form: the real size at 483, one chunk of data at its end
	old[156] = 'S'
	copy(old[257:], "ustar  \x00")
	copy(old[386:], fmt.Sprintf("%011o\x00%011o\x00", 1<<32-10, 10))
	copy(old[483:], fmt.Sprintf("%011o\x00", 1<<32))
	copy(old[148:], "        ")
	sum := 0
	for _, c := range old[:tarBlock] {
		sum += int(c)
	}
	copy(old[148:], fmt.Sprintf("%06o\x00 ", sum))
	_, err := walk(t, "p.tar", old, l)
	require.ErrorAs(t, err, &bound)
	assert.Equal(t, BoundBytes, bound.Bound)

	if path, err := exec.LookPath("tar"); err == nil {
		dir := t.TempDir()
		f, err := os.Create(filepath.Join(dir, "big.img"))
		require.NoError(t, err)
		require.NoError(t, f.Truncate(1<<32))
		require.NoError(t, f.Close())
		for _, form := range [][]string{{"--format=gnu"}, {"--format=posix"}, {"--format=posix", "--sparse-version=0.1"}} {
			out, err := exec.Command(path, append(form, "-S", "-cf", filepath.Join(dir, "p.tar"), "-C", dir, "big.img")...).CombinedOutput()
			require.NoError(t, err, "%s", out)
			data, err := os.ReadFile(filepath.Join(dir, "p.tar"))
			require.NoError(t, err)
			n, err := walk(t, "p.tar", data, l)
			require.ErrorAs(t, err, &bound, "%v", form)
			assert.LessOrEqual(t, len(n.content), 1)
		}
	}

	p := filepath.Join(t.TempDir(), "p.bin")
	require.NoError(t, os.WriteFile(p, nil, 0o644))
	require.NoError(t, os.Truncate(p, 1<<40))
	n := &notes{content: map[string]string{}}
	err = Walk(t.Context(), p, DefaultLimits(), n)
	require.ErrorAs(t, err, &bound)
	assert.Empty(t, n.items, "nothing of it was read")

	big := encoders["zip"](entry{"a.img", "one", ""})
	at := bytes.Index(big, []byte("PK\x01\x02"))
	binary.LittleEndian.PutUint32(big[at+24:], 0xfffffff0)
	n, err = walk(t, "p.zip", big, l)
	require.ErrorAs(t, err, &bound)
	assert.Len(t, n.items, 1, "the zip itself")

	counts := sevenZipOf(file{"a", "1"})
	header := bytes.LastIndex(counts, []byte{0, 0, 5, 1, 17})
	huge := append(append(bytes.Clone(counts[:header+3]), 0xff, 0, 0, 0, 0, 0, 0, 0, 0x10), counts[header+4:]...)
	length := len(huge) - 32 - 1
	binary.LittleEndian.PutUint64(huge[20:], uint64(length))
	binary.LittleEndian.PutUint32(huge[28:], crc32.ChecksumIEEE(huge[33:]))
	binary.LittleEndian.PutUint32(huge[8:], crc32.ChecksumIEEE(huge[12:32]))
	n, err = walk(t, "p.7z", huge, l)
	require.NoError(t, err)
	assert.True(t, n.says(Damaged, "p.7z", "announces more than it holds"), "%v", n.problems)
}

// Whatever the general tools write, in whatever form, has the contents that they read
// out of it.
func TestSameContentsAsGeneralTools(t *testing.T) {
	src := t.TempDir()
	for name, data := range map[string]string{"boot/main.img": strings.Repeat("main image ", 5000), "a rather long folder name/with another one in it that goes on and on/and a file whose name is longer than a hundred bytes.bin": "deep",
		"empty.bin": "", "\u00fcber.txt": "accents", "UPPER.TXT": "upper", strings.Repeat("l", 120) + ".bin": "long"} {
		p := filepath.Join(src, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(data), 0o644))
	}
	list := func(dir string) map[string]string {
		out := map[string]string{}
		require.NoError(t, filepath.Walk(dir, func(p string, info os.FileInfo, err error) error {
			if err == nil && info.Mode().IsRegular() {
				data, _ := os.ReadFile(p)
				rel, _ := filepath.Rel(dir, p)
				out[rel] = string(data)
			}
			return err
		}))
		return out
	}
	sorted := func(m map[string]string) (out []string) {
		for k, v := range m {
			out = append(out, fmt.Sprintf("%s %d", k, len(v)))
		}
		sort.Strings(out)
		return out
	}
	tried := 0
	for _, c := range []struct{ write, read string }{
		{"tar --format=gnu -cf OUT .", "tar -xf OUT"}, {"tar --format=posix -cf OUT .", "tar -xf OUT"}, {"tar --format=ustar -cf OUT boot empty.bin UPPER.TXT", "tar -xf OUT"},
		{"tar --format=v7 -cf OUT boot empty.bin UPPER.TXT", "tar -xf OUT"}, {"tar -S --format=gnu -cf OUT .", "bsdtar -xf OUT"}, {"tar -czf OUT .", "bsdtar -xf OUT"}, {"tar -cJf OUT .", "bsdtar -xf OUT"},
		{"tar --zstd -cf OUT .", "tar --zstd -xf OUT"}, {"tar -cjf OUT .", "tar -xjf OUT"},
		{"bsdtar --format=pax -cf OUT .", "tar -xf OUT"}, {"bsdtar --format=ustar -cf OUT boot UPPER.TXT", "bsdtar -xf OUT"}, {"bsdtar --format=zip -cf OUT .", "unzip -q OUT"},
		{"bsdtar --format=7zip -cf OUT .", "7zz x OUT"}, {"bsdtar --format=7zip --options=7zip:compression=store -cf OUT .", "bsdtar -xf OUT"}, {"7zz a -t7z -mx=9 OUT .", "bsdtar -xf OUT"}, {"7zz a -t7z -ms=off -m0=PPMd OUT .", "7zz x OUT"}, {"7zz a -t7z -m0=BZip2 OUT .", "7zz x OUT"}, {"7zz a -t7z -mhc=off -m0=Deflate OUT .", "7zz x OUT"},
		{"zip -qr OUT .", "unzip -q OUT"}, {"zip -qr0 OUT .", "unzip -q OUT"}, {"zip -qrZ bzip2 OUT .", "unzip -q OUT"}, {"zip -qrfz OUT .", "unzip -q OUT"}, {"zip -qr - . > OUT", "unzip -q OUT"}, {"7zz a -tzip -mm=LZMA OUT .", "7zz x OUT"}, {"7zz a -tzip -mm=Deflate OUT .", "unzip -q OUT"},
		{"find . | cpio -o -H newc > OUT", "cpio -id < OUT"}, {"find . | cpio -o -H crc > OUT", "cpio -id < OUT"}, {"find . | cpio -o -H odc > OUT", "cpio -id < OUT"}, {"find . | cpio -o -H bin > OUT", "cpio -id < OUT"}, {"bsdtar --format=cpio -cf OUT .", "bsdtar -xf OUT"}, {"bsdtar --format=bin -cf OUT .", "bsdtar -xf OUT"},
		{"ar rc OUT empty.bin UPPER.TXT boot/main.img", "bsdtar -xf OUT"}, {"ar rc OUT " + strings.Repeat("l", 120) + ".bin", "ar x OUT"}, {"bsdtar --format=arbsd -cf OUT UPPER.TXT " + strings.Repeat("l", 120) + ".bin", "bsdtar -xf OUT"}, {"bsdtar --format=arsvr4 -cf OUT UPPER.TXT", "bsdtar -xf OUT"},
		{"genisoimage -quiet -R -o OUT .", "bsdtar -xf OUT"}, {"genisoimage -quiet -R -J -joliet-long -o OUT .", "bsdtar -xf OUT"}, {"xorriso -as mkisofs -quiet -R -J -o OUT .", "bsdtar -xf OUT"}, {"xorriso -as mkisofs -quiet -R -iso-level 3 -o OUT .", "bsdtar -xf OUT"},
	} {
		have := true
		for _, line := range []string{c.write, c.read} {
			for _, word := range strings.Split(line, "|") {
				if _, err := exec.LookPath(strings.Fields(word)[0]); err != nil {
					have = false
				}
			}
		}
		if !have {
			continue
		}
		tried++
		suffix := ".pkg"
		if strings.HasPrefix(c.write, "7zz a -tzip") || strings.HasPrefix(c.write, "zip") {
			suffix = ".zip"
		}
		out := filepath.Join(t.TempDir(), "p"+suffix)
		run := func(line, dir string) {
			cmd := exec.Command("sh", "-c", strings.ReplaceAll(line, "OUT", out))
			cmd.Dir = dir
			text, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s: %s", line, text)
		}
		run(c.write, src)
		into := t.TempDir()
		run(c.read, into)
		data, err := os.ReadFile(out)
		require.NoError(t, err)
		n, err := walk(t, "p"+suffix, data, DefaultLimits())
		require.NoError(t, err, c.write)
		for _, p := range n.problems {
			assert.Equal(t, Note, p.Class, "%s: %v", c.write, p)
		}
		got := map[string]string{}
		for address, text := range n.content {
			parts := strings.Split(address, "::")
			if len(parts) < 2 || len(parts) == 2 && len(n.items) > 1 && n.content[address] != "" && IsTar([]byte(text)) {
				continue
			}
			got[filepath.Clean(parts[len(parts)-1])] = text
		}
		assert.Equal(t, sorted(list(into)), sorted(got), c.write)
		assert.Equal(t, list(into), got, c.write)
	}
	if tried == 0 {
		t.Skip("no tool that writes archives is here")
	}
}
