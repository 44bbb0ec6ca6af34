package fact

import "strings"

// archNames maps other usual names of processor architectures to the ones
// that Fit Check uses.
var archNames = map[string]string{
	"armv5": "arm", "armv6": "arm", "armv7": "arm", "armv7l": "arm", "armv7a": "arm", "armel": "arm", "armhf": "arm", "arm32": "arm", "aarch32": "arm",
	"aarch64": "arm64", "armv8": "arm64", "arm64v8": "arm64", "armv8a": "arm64",
	"mipsel32": "mipsel", "mipsle": "mipsel", "mips32": "mips", "mipseb": "mips", "mips32el": "mipsel",
	"mips64be": "mips64", "mips64eb": "mips64", "mips64le": "mips64el",
	"powerpc": "ppc", "ppc32": "ppc", "powerpc64": "ppc64", "powerpc64le": "ppc64le", "ppc64el": "ppc64le",
	"i386": "x86", "i486": "x86", "i586": "x86", "i686": "x86", "ia32": "x86", "x86_32": "x86",
	"amd64": "x86_64", "x64": "x86_64", "x86-64": "x86_64", "em64t": "x86_64",
	"riscv64gc": "riscv64", "rv64": "riscv64", "rv32": "riscv32",
	"or1k": "openrisc", "s390": "s390", "s390x": "s390x", "loong64": "loongarch64",
}

// CanonicalArch returns the one name for an architecture. Names it does not
// know come back in lower case, so that equal names still compare equal.
func CanonicalArch(name string) string {
	n := strings.ToLower(strings.TrimSpace(name))
	if c, ok := archNames[n]; ok {
		return c
	}
	return n
}

// KnownArch tells whether a text is the name of an architecture, by any of its spellings.
func KnownArch(text string) bool {
	switch CanonicalArch(text) {
	case "arm", "arm64", "mips", "mipsel", "mips64", "mips64el", "ppc", "ppc64", "ppc64le", "x86", "x86_64", "riscv32", "riscv64", "s390x", "loongarch64":
		return true
	}
	return false
}
