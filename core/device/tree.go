package device

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
)

// Device trees, as a blob and as the folder that a kernel shows of its own
// (/proc/device-tree, where each property is a file). Devicetree
// Specification 0.4, section 2.3: model and compatible of the root node;
// serial-number is a common further property of it.

func init() {
	registerForm(form{rank: 10, read: func(in *input) (*Reading, bool, error) {
		if !bytes.HasPrefix(in.data, []byte{0xd0, 0x0d, 0xfe, 0xed}) {
			return nil, false, nil
		}
		r, err := readBlob(in.file, in.data)
		return r, true, err
	}})
}

// readBlob reads a flattened device tree.
func readBlob(file string, data []byte) (*Reading, error) {
	r := &Reading{File: file, Form: "device tree blob"}
	reading := image.Begin(format.Builtin(), data[:min(len(data), 4096)], int64(len(data)), false)
	if _, err := reading.Write(data); err != nil {
		return nil, err
	}
	_, m, err := reading.End(archive.Memory(file, data))
	if err != nil {
		return nil, err
	}
	if m == nil || len(m.Problems) > 0 {
		why := "it cannot be read"
		if m != nil {
			why = m.Problems[0]
		}
		return nil, fmt.Errorf("%s: the device tree is damaged: %s; read it from the device again", file, why)
	}
	for _, f := range m.Facts {
		where := fact.Source{Kind: fact.Capture, File: file, Offset: f.Source.Offset, Size: f.Source.Size}
		switch {
		case f.About == fact.Title:
			r.treeModel(f.Value, where)
		case f.About == fact.Board && !f.Open:
			r.add("", "boards", f.Value, where)
		case f.About == fact.Board:
			r.note("%s: it is also compatible with %s", where, f.Value)
		}
	}
	for _, f := range m.Fields {
		if strings.HasSuffix(f.Name, "serial-number") {
			r.add("", "serial", strings.Trim(f.Value, "\"\x00"), fact.Source{Kind: fact.Capture, File: file, Offset: f.Offset, Size: int64(len(f.Raw))})
		}
	}
	return r, nil
}

// treeModel takes the model of a root node: words, of which a rulebook tells
// whether they are a model's name.
func (r *Reading) treeModel(text string, where fact.Source) {
	v := r.add("", "model", text, where)
	v.Guess, v.Open = true, true
}

// readTree reads the folder form.
func readTree(dir string) (*Reading, error) {
	r := &Reading{File: dir, Form: "unpacked device tree"}
	found := false
	for _, name := range []string{"model", "compatible", "serial-number"} {
		path := filepath.Join(dir, name)
		at := fact.Source{Kind: fact.Capture, File: path}
		data, err := readProperty(path)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		found = true
		texts := strings.Split(string(bytes.TrimRight(data, "\x00\n")), "\x00")
		switch name {
		case "model":
			r.treeModel(texts[0], at)
		case "serial-number":
			r.add("", "serial", texts[0], at)
		default:
			r.add("", "boards", texts[0], at)
			for _, t := range texts[1:] {
				r.note("%s: it is also compatible with %s", path, t)
			}
		}
	}
	if !found {
		return nil, fmt.Errorf("%s: the folder holds no device tree (neither model nor compatible); give the folder that was copied from /proc/device-tree", dir)
	}
	return r, nil
}

// maxProperty bounds a property file; real ones have some hundred bytes.
const maxProperty = 64 << 10

func readProperty(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: it is not a file", path)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxProperty+1))
	if err == nil && len(data) > maxProperty {
		err = fmt.Errorf("%s: a property of more than %d bytes", path, maxProperty)
	}
	return data, err
}
