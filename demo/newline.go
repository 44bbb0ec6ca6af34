package demo

import (
	"crypto/sha256"
	"fmt"
	"strings"
)

// What lies in new-line/ is for a first rulebook: downloads, notes, a capture and a table of a
// line that no rulebook of the kit knows, the quay displays of the maker Skerrow.

// newLine adds its files.
func newLine(files map[string][]byte) {
	for _, r := range []struct{ release, boot string }{{"R12.1-b611", "1.8"}, {"R12.2-b640", "2.0"}, {"R12.3-b702", "2.0"}, {"R12.4-b731", "2.1"}} {
		files["new-line/skerrow-"+strings.TrimPrefix(r.release, "R")+".zip"] = skerrowBundle(r.release, r.boot)
	}
	files["new-line/later/skerrow-12.5-b760.zip"] = skerrowBundle("R12.5-b760", "2.1")
	files["new-line/notes-12.4.txt"] = []byte(skerrowNotes)
	files["new-line/later/notes-12.5.txt"] = []byte(skerrowLater)
	files["new-line/quay-2.txt"] = []byte(skerrowConsole)
	files["new-line/moves.csv"] = []byte(skerrowMoves)
}

func skerrowBundle(release, boot string) []byte {
	dir := "skerrow-" + strings.TrimPrefix(release, "R") + "/"
	var list strings.Builder
	fmt.Fprintf(&list, "<?xml version=\"1.0\"?>\n<bundle release=\"%s\">\n", release)
	var files []entry
	for _, b := range []struct {
		model, revision string
		arch            byte
		name            string
	}{{"SD-20", "C1", arm, "arm"}, {"SD-20", "D1", arm64, "arm64"}, {"SD-41", "A1", arm64, "arm64"}} {
		fmt.Fprintf(&list, "  <target model=\"%s\" hw=\"%s\" cpu=\"%s\">\n", b.model, b.revision, b.name)
		folder := strings.ToLower(strings.ReplaceAll(b.model, "-", "") + b.revision)
		for _, part := range []struct {
			role, file, version string
			data                []byte
		}{
			{"system", "sys.bin", release, UImage(osLinux, b.arch, typeKernel, "display system "+release, payload(b.model+b.revision+release, 60<<10))},
			{"loader", "ldr.bin", boot, UImage(osUBoot, b.arch, typeFirmware, "display loader "+boot, payload("ldr"+b.model+b.revision+boot, 20<<10))},
		} {
			path := folder + "/" + part.file
			fmt.Fprintf(&list, "    <image role=\"%s\" version=\"%s\" path=\"%s\" sha256=\"%x\"/>\n", part.role, part.version, path, sha256.Sum256(part.data))
			files = append(files, entry{dir + path, part.data})
		}
		fmt.Fprintf(&list, "  </target>\n")
	}
	list.WriteString("</bundle>\n")
	return zipped(append([]entry{{dir + "bundle.xml", []byte(list.String())}}, files...)...)
}

const skerrowNotes = `Skerrow quay displays, release R12.4-b731
=========================================

Released 2026-06-12.

Before you install
------------------
Displays on releases before R12.3 must be upgraded to R12.3-b702 first.
The boot loader must be 2.0 or later; the bundle brings it.
Downgrading is not supported.

The installation takes about 10 minutes, of which 4 minutes are without service.

Service notes
-------------
Release R12.2-b640 was withdrawn: the display stays dark after a cold start.
`

const skerrowLater = `Skerrow quay displays, release R12.5-b760
=========================================

Released 2026-10-30.

Displays on releases before R12.4 must be upgraded to R12.4-b731 first.
At least 24 MiB of free storage are needed.
The installation takes about 10 minutes, of which 4 minutes are without service.
`

const skerrowConsole = `quay-2> show display
Skerrow Display Software

Product .......... SD20 (outdoor)
HW revision ...... C1
Serial ........... 3320-118
Software ......... R12.1-b611
Boot loader ...... 1.8
Uptime ........... 41 days
quay-2>
`

const skerrowMoves = `From,To,Stop
R12.1,R12.4-b731,R12.3-b702
R12.3-b702,R12.4-b731,
`
