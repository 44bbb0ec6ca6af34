package image

import (
	"path"
	"strings"

	"fitcheck/core/fact"
)

// OSRelease and VersionFile are what facts from the files of a root file
// system are about: they tell which system it is, in its own words.
const (
	OSRelease   fact.Name = "os-release"
	VersionFile fact.Name = "version file"
)

// What further facts from the files of a root file system are about: for which processor
// its programs are, for which kernel its modules are, what its package manager has
// installed.
const (
	Programs fact.Name = "programs"
	Modules  fact.Name = "modules for kernel"
	Packages fact.Name = "packages"
)

// IsVersionFile tells the files of a root file system that say which system
// it is (os-release as by freedesktop.org; /etc/version and the like).
func IsVersionFile(name string) bool {
	name = strings.TrimPrefix(path.Clean("/"+strings.TrimLeft(name, "./")), "/")
	switch name {
	case "etc/os-release", "usr/lib/os-release", "etc/version", "etc/issue", "etc/banner", "version":
		return true
	}
	dir, base := path.Split(name)
	return dir == "etc/" && (strings.HasSuffix(base, "-release") || strings.HasSuffix(base, "_release") || strings.HasSuffix(base, "_version") || strings.HasSuffix(base, "-version"))
}

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
	return MachineArch(machine, head[4] == 2, head[5] == 2)
}

// VersionFacts reads a version file. source is the file; the facts bear their
// lines.
func VersionFacts(name string, text []byte, source fact.Source) []fact.Fact {
	var out []fact.Fact
	release := strings.HasSuffix(name, "os-release")
	banner := strings.HasSuffix(name, "banner") // of which only a line with a number says anything
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
		} else if key, value, ok := strings.Cut(line, "="); ok && strings.HasPrefix(key, "DISTRIB_") { // lsb-release
			if value = strings.Trim(value, `"'`); key != "DISTRIB_CODENAME" && value != "" && len(value) < 200 {
				out = append(out, fact.Fact{About: VersionFile, Value: key + "=" + value, Source: src})
			}
		} else if line != "" && len(line) < 200 && !(banner && !strings.ContainsAny(line, "0123456789")) {
			return append(out, fact.Fact{About: VersionFile, Value: line, Source: src})
		}
	}
	return out
}
