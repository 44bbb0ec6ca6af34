package image

import (
	"archive/tar"
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/cavaliergopher/cpio"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
)

// OSRelease and VersionFile are what facts from the files of a root file
// system are about: they tell which system it is, in its own words.
const (
	OSRelease   fact.Name = "os-release"
	VersionFile fact.Name = "version file"
)

// versionFiles holds, by format, how the version files of a root file system
// are found. Each calls found with a file's path and content.
var versionFiles = map[string]func(c *archive.Content, found func(name string, r io.Reader)) error{
	"cpio": cpioVersionFiles,
	"tar":  tarVersionFiles,
}

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
)

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
	n := 0
	var fatal error
	defer func() {
		if p := recover(); p != nil {
			m.note("its files cannot be listed: %v", p)
		}
	}()
	err = list(c, func(name string, r io.Reader) {
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
		src := fact.Source{Kind: fact.Content, File: c.Address() + "::" + name}
		m.Facts = append(m.Facts, VersionFacts(name, text, src)...)
	})
	switch {
	case fatal != nil:
		return fatal
	case archive.Fatal(err):
		return err
	case err != nil:
		m.note("its files cannot be listed: %v", err)
	}
	return nil
}

var errTooMany = errors.New("it holds more files than are looked through")

const maxListed = 200_000

func cpioVersionFiles(c *archive.Content, found func(string, io.Reader)) error {
	r := cpio.NewReader(bufio.NewReaderSize(c.Reader(0, c.Size()), 64<<10))
	for range maxListed {
		h, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("its list of files breaks off: %w", err)
		}
		if h.Mode.IsRegular() && IsVersionFile(h.Name) {
			found(h.Name, r)
		}
	}
	return errTooMany
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
		if h.Typeflag == tar.TypeReg && IsVersionFile(h.Name) {
			found(h.Name, r)
		}
	}
	return errTooMany
}
