package content

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"io/fs"
)

// romfs (Linux kernel, Documentation/filesystems/romfs.rst), big-endian; everything
// begins at a multiple of 16.
//
//	superblock: 0 "-rom1fs-", 8 size, 12 checksum, 16 name of the volume, to its NUL
//	file:       0 offset of the next one in the folder, with type in bits 0 to 2 and bit 3 for a program,
//	            4 by type: the first file of a folder, the target of a hard link, the number of a device,
//	            8 size, 12 checksum, 16 name, to its NUL; then the content
type romfs struct {
	at   io.ReaderAt
	size int64
}

func init() {
	register(Kind{Name: "romfs", Title: "romfs", Open: OpenRomfs, From: "Linux, Documentation/filesystems/romfs.rst",
		Reads: "all of it; its modes are those that the kernel gives"})
}

const (
	romfsHead    = 16
	romfsMaxName = 4096
)

const (
	romfsHardLink = iota
	romfsFolder
	romfsFile
	romfsSymlink
)

// romfsModes are those that the kernel gives, which a romfs does not keep.
var romfsModes = [8]fs.FileMode{
	romfsFolder: fs.ModeDir | 0o755, romfsFile: 0o644, romfsSymlink: fs.ModeSymlink | 0o777,
	4: fs.ModeDevice | 0o600, 5: fs.ModeDevice | fs.ModeCharDevice | 0o600, 6: fs.ModeSocket | 0o644, 7: fs.ModeNamedPipe | 0o644,
}

// OpenRomfs opens a romfs that takes up to size bytes.
func OpenRomfs(at io.ReaderAt, size int64) (FileSystem, error) {
	var h [romfsHead]byte
	if err := readAt(at, size, 0, h[:]); err != nil {
		return nil, err
	}
	if string(h[:8]) != "-rom1fs-" {
		return nil, damaged("it does not begin as a romfs")
	}
	return &romfs{at, min(size, int64(binary.BigEndian.Uint32(h[8:])))}, nil
}

// name reads a name, and where what follows it begins.
func (r *romfs) name(at int64) (name string, end int64, err error) {
	var out []byte
	for len(out) < romfsMaxName {
		var b [16]byte
		if err := readAt(r.at, r.size, at, b[:]); err != nil {
			return "", 0, err
		}
		at += int64(len(b))
		if i := bytes.IndexByte(b[:], 0); i >= 0 {
			return string(append(out, b[:i]...)), at, nil
		}
		out = append(out, b[:]...)
	}
	return "", 0, damaged("the name at byte %d does not end", at)
}

// romfsNode is the header of a file.
type romfsNode struct {
	next, info, data int64
	kind             int
	file             File
}

func (r *romfs) node(at int64) (*romfsNode, error) {
	var h [romfsHead]byte
	if err := readAt(r.at, r.size, at, h[:]); err != nil {
		return nil, err
	}
	be := binary.BigEndian
	next := be.Uint32(h[:])
	n := &romfsNode{next: int64(next &^ 15), kind: int(next & 7), info: int64(be.Uint32(h[4:]))}
	f := &n.file
	f.Node, f.Links, f.Mode = uint64(at), 1, romfsModes[n.kind]
	if next&8 != 0 {
		f.Mode |= 0o111
	}
	size := int64(be.Uint32(h[8:]))
	var err error
	if f.Path, n.data, err = r.name(at + romfsHead); err != nil {
		return nil, err
	}
	switch n.kind {
	case romfsFile:
		f.Size = size
		f.open = func() io.Reader {
			if n.data > r.size-size {
				return failing{damaged("truncated: a file of %d bytes at byte %d reaches past its end", size, n.data)}
			}
			return io.NewSectionReader(r.at, n.data, size)
		}
	case romfsSymlink:
		if size > 65535 {
			return nil, damaged("the target of a symbolic link announces %d bytes", size)
		}
		target := make([]byte, size)
		if err := readAt(r.at, r.size, n.data, target); err != nil {
			return nil, err
		}
		f.Target = string(target)
	case 4, 5:
		f.Major, f.Minor = uint32(n.info>>16), uint32(n.info&0xffff)
	}
	return n, nil
}

// failing is the reader of what cannot be read.
type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

// romfsTop stands for the root, which has no header of its own.
const romfsTop = 0

// Walk implements FileSystem. A reference is the offset of a header.
func (r *romfs) Walk(ctx context.Context, visit func(*File) error) error {
	_, first, err := r.name(romfsHead)
	if err != nil {
		return err
	}
	listed := map[int64]bool{}
	return walk(ctx, romfsTop, func(at uint64) (node, error) {
		if at == romfsTop {
			return node{folder: uint64(first), list: func() ([]entry, error) { return r.list(first, listed) }}, nil
		}
		n, err := r.node(int64(at))
		if err == nil && n.kind == romfsHardLink {
			if n, err = r.node(n.info); err == nil && (n.kind == romfsHardLink || n.kind == romfsFolder) {
				err = damaged("a hard link leads to no file")
			}
		}
		if err != nil {
			return node{}, err
		}
		out := node{file: n.file, folder: uint64(n.info)}
		if n.kind == romfsFolder {
			out.list = func() ([]entry, error) { return r.list(n.info, listed) }
		}
		return out, nil
	}, visit)
}

// list reads the chain of a folder's files from its first one on; a file is listed once.
func (r *romfs) list(at int64, listed map[int64]bool) ([]entry, error) {
	var out []entry
	for at != 0 {
		if listed[at] {
			return out, damaged("the file at byte %d is listed twice, or its folder lies in itself", at)
		}
		listed[at] = true
		n, err := r.node(at)
		if err != nil {
			return out, err
		}
		if name := n.file.Path; name != "." && name != ".." {
			out = append(out, entry{name, uint64(at)})
		}
		at = n.next
	}
	return out, nil
}
