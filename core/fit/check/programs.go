package check

import (
	"slices"
	"strings"

	"fitcheck/core/fact"
)

var agreementPrograms = agreement.Code("programs_contradict", Unsettled, "none of the programs in a RAM disk or file system is for the device's processor", "the programs in it are for %s, and the device is %s",
	"ask the maker what the file is; until then, do not use it")

func init() { agreement.Runs(PerImage((*Case).programs)) }

// programs holds the programs in a RAM disk or file system against the device. A file
// system may hold some for other processors, so they only count where none is its own.
func (c *Case) programs(k Component, cand *Candidate) []Line {
	found := cand.Item.Programs()
	arch := c.Value(fact.Arch)
	if len(found) == 0 || !arch.Known() {
		return nil
	}
	var names []string
	for _, f := range found {
		for _, d := range arch.Said() {
			if sameFamily(f.Value, d.Value) {
				return nil
			}
		}
		if !slices.Contains(names, f.Value) {
			names = append(names, f.Value)
		}
	}
	base := Line{Component: k.Name, Device: arch.Text(), Package: strings.Join(names, ", "), Sources: ofMember(arch)}
	for _, f := range found[:min(len(found), maxCited)] {
		base.Cite(Cited{OfPackage, f.Value, f.Source})
	}
	return []Line{agreementPrograms.become(base, strings.Join(names, ", "), arch.Text())}
}

// sameFamily tells whether programs for one architecture may run on another: those of 32
// bits do on most of 64.
func sameFamily(program, device string) bool {
	program, device = fact.CanonicalArch(program), fact.CanonicalArch(device)
	narrow := map[string]string{"arm64": "arm", "x86_64": "x86", "mips64": "mips", "mips64el": "mipsel", "ppc64": "ppc"}
	return program == device || narrow[device] == program
}
