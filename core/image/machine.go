package image

import "fitcheck/core/fact"

// elfMachines gives architectures by machine number: for little-endian, and
// for big-endian where that bears another name.
var elfMachines = map[uint64][2]string{
	2: {"sparc"}, 3: {"x86"}, 4: {"m68k"}, 8: {"mipsel", "mips"}, 15: {"parisc"}, 18: {"sparc32plus"}, 20: {"ppcle", "ppc"}, 21: {"ppc64le", "ppc64"},
	22: {"s390x"}, 40: {"arm", "armeb"}, 42: {"sh"}, 43: {"sparc64"}, 45: {"arc"}, 50: {"ia64"}, 62: {"x86_64"}, 83: {"avr"}, 92: {"openrisc"}, 93: {"arc"},
	94: {"xtensa"}, 106: {"blackfin"}, 113: {"nios2"}, 183: {"arm64", "arm64eb"}, 189: {"microblazeel", "microblaze"}, 195: {"arc"}, 243: {"riscv64"}, 258: {"loongarch64"},
}

// MachineArch names an architecture by its number, width and byte order; "" for none that is
// known.
func MachineArch(machine uint64, wide, big bool) string {
	names := elfMachines[machine]
	arch := names[0]
	if big && names[1] != "" {
		arch = names[1]
	}
	switch {
	case wide && (arch == "mips" || arch == "mipsel"):
		arch = map[string]string{"mips": "mips64", "mipsel": "mips64el"}[arch]
	case !wide && arch == "riscv64":
		arch = "riscv32"
	case !wide && arch == "loongarch64":
		arch = "loongarch32"
	}
	return arch
}

// BuildID is what the fact from an ELF file's GNU build id note is about.
const BuildID fact.Name = "build-id"
