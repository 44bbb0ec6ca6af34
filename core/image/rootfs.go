package image

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/content"
	"fitcheck/core/fact"
)

// OSRelease and VersionFile are what facts from the files of a root file
// system are about: they tell which system it is, in its own words.
const (
	OSRelease   fact.Name = "os-release"
	VersionFile fact.Name = "version file"
)

// Programs is what facts are about that tell for which processor a program of a root
// file system is.
const Programs fact.Name = "programs"

// versionFiles holds, by format and for those that are read as streams, how the files of a
// root file system are listed that are read: version files, and programs. Each calls found
// with a file's path and content.
var versionFiles = map[string]func(c *archive.Content, found func(name string, r io.Reader)) error{
	"cpio": cpioVersionFiles,
	"tar":  tarVersionFiles,
}

// versionFilesOf is how the files of a format are listed; nil where they are not.
func versionFilesOf(format string) func(c *archive.Content, found func(name string, r io.Reader)) error {
	if list := versionFiles[format]; list != nil || !content.Knows(format) {
		return list
	}
	return func(c *archive.Content, found func(string, io.Reader)) error {
		fsys, err := content.Open(format, c, c.Size())
		var no *content.Unsupported
		if errors.As(err, &no) {
			return nil // of such a version, only the header is read
		}
		if err != nil {
			return err
		}
		programs := 0
		return fsys.Walk(context.Background(), func(f *content.File) error {
			if f.Mode.IsDir() {
				if !slices.Contains(versionFolders, f.Path) {
					return fs.SkipDir
				}
				return nil
			}
			program := IsProgram(f.Path)
			if !f.Mode.IsRegular() || !program && !IsVersionFile(f.Path) || program && programs >= maxPrograms {
				return nil
			}
			if program {
				programs++
			}
			found(f.Path, f.Open())
			return nil
		})
	}
}

// versionFolders are the folders of a root file system that are looked into.
var versionFolders = []string{"etc", "usr", "usr/lib", "bin", "sbin", "usr/bin"}

// IsVersionFile tells the files of a root file system that say which system
// it is (os-release as by freedesktop.org; /etc/version and the like).
func IsVersionFile(name string) bool {
	name = strings.TrimPrefix(path.Clean("/"+strings.TrimLeft(name, "./")), "/")
	switch name {
	case "etc/os-release", "usr/lib/os-release", "etc/version", "etc/issue", "version":
		return true
	}
	dir, base := path.Split(name)
	return dir == "etc/" && (strings.HasSuffix(base, "-release") || strings.HasSuffix(base, "_release") || strings.HasSuffix(base, "_version") || strings.HasSuffix(base, "-version"))
}

const (
	maxVersionFile  = 64 << 10
	maxVersionFiles = 16
	maxPrograms     = 64
)

// IsProgram tells, by its folder, a file of a root file system that a system starts.
func IsProgram(name string) bool {
	dir := path.Dir(path.Clean("/" + name))
	return dir == "/" && path.Base(name) == "init" || strings.HasSuffix(dir, "/bin") || strings.HasSuffix(dir, "/sbin")
}

// ProgramArch is the architecture of an ELF program by its first 20 bytes; "" for
// anything else.
func ProgramArch(head []byte) string {
	if len(head) < 20 || string(head[:4]) != "\x7fELF" || head[5] != 1 && head[5] != 2 {
		return ""
	}
	machine := uint64(head[18]) | uint64(head[19])<<8
	if head[5] == 2 {
		machine = uint64(head[18])<<8 | uint64(head[19])
	}
	return elfArch(machine, head[4] == 2, head[5] == 2)
}

// VersionFacts reads a version file. source is the file; the facts bear their
// lines.
func VersionFacts(name string, text []byte, source fact.Source) []fact.Fact {
	var out []fact.Fact
	release := strings.HasSuffix(name, "os-release")
	for i, line := range strings.Split(string(text), "\n") {
		line = strings.TrimSpace(strings.ToValidUTF8(line, "\uFFFD"))
		src := source
		src.Line = i + 1
		if release {
			key, value, ok := strings.Cut(line, "=")
			value = strings.Trim(value, `"'`)
			switch key {
			case "NAME", "ID", "VERSION", "VERSION_ID", "PRETTY_NAME", "BUILD_ID", "IMAGE_VERSION", "IMAGE_ID", "VARIANT_ID":
				if ok && value != "" {
					out = append(out, fact.Fact{About: OSRelease, Value: key + "=" + value, Source: src})
				}
			}
		} else if line != "" && len(line) < 200 {
			return []fact.Fact{{About: VersionFile, Value: line, Source: src}}
		}
	}
	return out
}

// readVersionFiles takes the version files of a file system for facts of its
// image. A library that fails or panics on a damaged file system leaves a
// note.
func readVersionFiles(list func(*archive.Content, func(string, io.Reader)) error, c *archive.Content, m *Image) (err error) {
	n, programs := 0, 0
	var fatal error
	defer func() {
		if p := recover(); p != nil {
			m.note("its files cannot be listed: its structure is none that fitcheck can follow")
		}
	}()
	err = list(c, func(name string, r io.Reader) {
		src := fact.Source{Kind: fact.Content, File: c.Address() + "::" + name}
		if !IsVersionFile(name) {
			if programs++; programs > maxPrograms {
				return
			}
			head := make([]byte, 20)
			k, err := io.ReadFull(r, head)
			if archive.Fatal(err) {
				fatal = err
			}
			if arch := ProgramArch(head[:k]); arch != "" {
				src.Size = 20
				m.Facts = append(m.Facts, fact.Fact{About: Programs, Value: arch, Source: src})
			}
			return
		}
		if n++; n > maxVersionFiles {
			return
		}
		text, err := io.ReadAll(io.LimitReader(r, maxVersionFile))
		if archive.Fatal(err) {
			fatal = err
		}
		if err != nil || bytes.ContainsRune(text, 0) {
			return
		}
		m.Facts = append(m.Facts, VersionFacts(name, text, src)...)
	})
	switch {
	case fatal != nil:
		return fatal
	case archive.Fatal(err):
		return err
	case err != nil:
		m.note("its files cannot be listed: %s", archive.Describe(err))
	}
	return nil
}

var errTooMany = errors.New("it holds more files than are looked through")

const maxListed = 200_000

func cpioVersionFiles(c *archive.Content, found func(string, io.Reader)) error {
	n := 0
	return archive.EachCpio(c.Reader(0, c.Size()), func(name string, mode fs.FileMode, r io.Reader) error {
		if n++; n > maxListed {
			return errTooMany
		}
		if mode.IsRegular() && (IsVersionFile(name) || IsProgram(name)) {
			found(name, r)
		}
		return nil
	})
}

func tarVersionFiles(c *archive.Content, found func(string, io.Reader)) error {
	r := tar.NewReader(c.Reader(0, c.Size()))
	for range maxListed {
		h, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil && err != tar.ErrInsecurePath {
			return fmt.Errorf("its list of files breaks off: %w", err)
		}
		if h.Typeflag == tar.TypeReg && (IsVersionFile(h.Name) || IsProgram(h.Name)) {
			found(h.Name, r)
		}
	}
	return errTooMany
}
