// Package demo makes the demo kit: the switches of the Brackwater Tramway, a
// small tram operator, and the packages that its engineers have downloaded.
// Everything in it is made up and made here, from code: the same bytes at
// every run.
package demo

import (
	"crypto/sha256"
	"fmt"
	"sort"
	"strings"
	"sync"
)

// File is one file of the kit.
type File struct {
	Path string // relative to the kit, with "/"
	Data []byte
}

// Case is one check of the story and how it must come out.
type Case struct {
	Name string
	Tale string // what the engineer is about to do
	// Scene: it is one of those that tell the story in short.
	Scene bool
	Args  []string // arguments of fitcheck, run inside the kit
	Exit  int
	// Beside runs while the case does: the arguments of another command. In it
	// and in Args, PORT and ECHO stand for ports that are free.
	Beside []string
	// Console is where somebody types what runbook -follow says.
	Console string
	// For path: the releases of the hops, "boot:" before one of which only the
	// boot loader is installed.
	Hops []string
	// For match: the verdict, and the checks that must decide it.
	Verdict  string
	Deciding []string
}

// Kit returns all files of the demo kit, sorted by path. They are made once,
// and are not to be changed.
var Kit = sync.OnceValue(makeKit)

func makeKit() []File {
	files := map[string][]byte{
		"rulebooks/quillmere.yaml": []byte(rulebookText),
		"devices/cabinet-07.yaml":  []byte(cabinet07),
		"devices/cabinet-12.yaml":  []byte(cabinet12),
		"rulebooks/velloway.yaml":  []byte(vellowayText),
		"layouts/qmi.yaml":         []byte(layoutText),
		"keys/quillmere.pem":       publicKey(),
		"devices/tunnel-3.yaml":    []byte(tunnel3),

		"devices/ops-gateways.yaml":     []byte(opsGateways),
		"devices/radio-controller.yaml": []byte(radioController),
		"rulebooks/quillmere-core.yaml": []byte(coreText),
		"rulebooks/platform.yaml":       []byte(platformText),
		"devices/depot-core.yaml":       []byte(depotCore),
		"devices/platform-9.yaml":       []byte(platform9),
		"devices/platform-2.yaml":       []byte(platform2),
		"devices/sign-2.yaml":           []byte(sign2),
		"captures/cab07.txt":            console("cabinet-07", "QM-8T", "A2", "0417-221", "3.1.4", "8.2.1", "2.1", "Slot A  8.2.1  *", "Slot B  7.9.1"),
		"captures/cab07-after.txt":      console("cabinet-07", "QM-8T", "A2", "0417-221", "3.2.0", "8.4.2", "2.2", "Slot A  8.2.1", "Slot B  8.4.2  *"),
		"captures/cab12.txt":            console("cabinet-12", "QM-8T", "B1", "0529-034", "3.1.4", "8.3.1", "2.1", "Slot A  8.3.1  *", "Slot B  8.3.1"),
		"captures/cab15.txt":            console("cabinet-15", "QM-8T", "A2", "0417-230", "3.1.4", "8.2.1", "2.1", "Slot A  8.2.1  *", "Slot B  8.2.1"),
		"captures/cab15-eeprom.txt":     eepromDump("QM-8T", "B1", "0529-101"),
		"captures/ops-gateways.json":    []byte(gatewayInventory),
	}
	full := bundle("qm-tram-8.4.2", "8.4.2", true)
	files["packages/qm-tram-8.4.1.zip"] = bundle("qm-tram-8.4.1", "8.4.1", true)
	files["packages/vg20-5.1.0.zip"] = gatewayBundle("5.1.0", false)
	files["packages/vg20-5.1.0-virtual.zip"] = gatewayBundle("5.1.0", true)
	files["packages/vc40-loader-2.4.0.bin"] = controllerHalf("loader", "2.4.0")
	files["packages/vc40-loader-2.4.1.bin"] = controllerHalf("loader", "2.4.1")
	files["packages/vc40-system-2.4.1.bin"] = controllerHalf("system", "2.4.1")
	files["packages/qm-tram-8.4.2.zip"] = full
	files["packages/qm-tram-a-8.4.2.zip"] = bundle("qm-tram-a-8.4.2", "8.4.2", false)
	files["packages/cut-short/qm-tram-8.4.2.zip"] = full[:len(full)*3/5]
	files["packages/portal/qm-tram-8.4.2.zip"] = []byte(errorPage)
	files["packages/QM-8T-8.4.2.img"] = mainImage("QM-24T", "8.4.2", arm)
	files["packages/vr310-4.2.0.itb"] = radioImage("4.2.0")
	files["packages/qm-core-6.1.2.zip"] = coreBundle("6.1.2", "1.9.3")
	files["packages/qm-core-6.3.0.zip"] = coreBundle("6.3.0", "")
	files["packages/qm-core-6.4.1.zip"] = coreBundle("6.4.1", "2.0.0")
	files["packages/vr510-lantern-initial-23.4.0.bin"] = plainImage(mips, "VR-510 v1 lantern-initial 23.4.0")
	files["packages/vr510-lantern-23.4.2.bin"] = plainImage(mips, "VR-510 v1 lantern 23.4.2")
	files["packages/vr510-recovery-3.4.0.zip"] = recoveryBundle("3.4.0")
	files["packages/vr510-3.4.0.bin"] = plainImage(mips, "VR-510 v2 stock 3.4.0")
	files["packages/vp12-5.1.4.bin"] = plainImage(arm, "VP-12 5.1.4")
	files["packages/vp12-5.3.0.bin"] = plainImage(arm, "VP-12 5.3.0")
	files["packages/flash-07.bin"] = flashDump()
	files["packages/gift.zip"] = hostile()
	files["packages/depot-2026-11.tar.gz"] = tgz(entry{"README.txt", []byte("Everything for the night of the 26th.\n")}, entry{"switches/qm-tram-8.4.2.zip", full},
		entry{"radios/vr310-4.2.0.itb.gz", gzipped(radioImage("4.2.0"))})
	newLine(files)
	var out []File
	for path, data := range files {
		out = append(out, File{path, data})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Path < out[j].Path })
	return out
}

// Story returns the cases in the order in which they are told.
//
// In one piece: the scenes, one after the other.
func Story() []Case {
	match := func(device, pkg string) []string { return []string{"match", "-device", device, "packages/" + pkg} }
	return []Case{
		{Name: "a device from its console", Tale: "Tonight the switch in cabinet 07 is to be upgraded. Somebody kept what its console said: what is it, exactly?",
			Args: []string{"device", "captures/cab07.txt"}},
		{Name: "sources that contradict each other", Tale: "Cabinet 15 is next. Its board was swapped in spring; the console and the board's own EEPROM do not agree.",
			Args: []string{"device", "captures/cab15.txt", "captures/cab15-eeprom.txt"}, Exit: 3},
		{Name: "survey", Scene: true, Tale: "The switch in cabinet 07 is to go to 8.4.2. What is in the download?",
			Args: []string{"survey", "packages/qm-tram-8.4.2.zip"}},
		{Name: "header", Tale: "What does the header of one of its images say?",
			Args: []string{"header", "packages/qm-tram-8.4.2.zip::qm-tram-8.4.2/qm8t-a.img"}},
		{Name: "a maker's own header", Tale: "The PoE controller's image has a header of Quillmere's own, which a layout of the kit describes.",
			Args: []string{"header", "-hex", "packages/qm-tram-8.4.2.zip::qm-tram-8.4.2/poe/qm-poe-a.qmi"}},
		{Name: "clean fit", Scene: true, Tale: "Does it fit the switch in cabinet 07, a QM-8T of revision A2?",
			Args: match("cabinet-07", "qm-tram-8.4.2.zip"), Verdict: "fits", Deciding: []string{"model", "revision", "path"}},
		{Name: "wrong hardware revision", Tale: "Cabinet 12 has a QM-8T, too, but a newer board, B1. A colleague hands over the bundle for the A boards.",
			Args: match("cabinet-12", "qm-tram-a-8.4.2.zip"), Exit: 1, Verdict: "misfit", Deciding: []string{"revision"}},
		{Name: "withdrawn release", Tale: "In the folder lies 8.4.1, too. It is the one that was on the share all summer.",
			Args: match("cabinet-07", "qm-tram-8.4.1.zip"), Exit: 1, Verdict: "misfit", Deciding: []string{"withdrawn"}},
		{Name: "which of these", Tale: "Which of all the packages is the one for cabinet 12?",
			Args: []string{"match", "-device", "cabinet-12", "packages"}, Verdict: "fits"},
		{Name: "truncated zip", Scene: true, Tale: "The line to the depot dropped while this one came in.",
			Args: match("cabinet-07", "cut-short/qm-tram-8.4.2.zip"), Exit: 1, Verdict: "misfit", Deciding: []string{"intact"}},
		{Name: "saved error page", Tale: "And this one was saved after the session at the maker's portal had ended.",
			Args: match("cabinet-07", "portal/qm-tram-8.4.2.zip"), Exit: 1, Verdict: "misfit", Deciding: []string{"intact"}},
		{Name: "a name that contradicts its header", Tale: "Somebody left an image on the share, named for the QM-8T.",
			Args: match("cabinet-07", "QM-8T-8.4.2.img"), Exit: 1, Verdict: "misfit", Deciding: []string{"model"}},
		{Name: "a FIT image with two configurations", Tale: "The radios in the tunnel take one image for both of their boards. Does it hold a configuration for radio 3?",
			Args: match("tunnel-3", "vr310-4.2.0.itb"), Verdict: "fits", Deciding: []string{"model", "revision", "board", "arch"}},
		{Name: "a cluster of two architectures", Tale: "The two gateways of operations form a cluster; one has the older board with another processor. Does one bundle serve both?",
			Args: match("ops-gateways", "vg20-5.1.0.zip"), Verdict: "fits", Deciding: []string{"uniform", "arch"}},
		{Name: "a virtual image for a physical gateway", Tale: "A colleague has the bundle of the virtual appliance.",
			Args: match("ops-gateways", "vg20-5.1.0-virtual.zip"), Exit: 1, Verdict: "misfit", Deciding: []string{"platform"}},
		{Name: "a pair with one half old", Tale: "The radio controller takes loader and system as two downloads. The loader is from the month before.",
			Args: []string{"match", "-device", "radio-controller", "packages/vc40-loader-2.4.0.bin", "packages/vc40-system-2.4.1.bin"}, Exit: 1, Verdict: "misfit", Deciding: []string{"paired"}},
		{Name: "the pair", Tale: "With the loader of the same release it is another matter.",
			Args: []string{"match", "-device", "radio-controller", "packages/vc40-loader-2.4.1.bin", "packages/vc40-system-2.4.1.bin"}, Verdict: "fits", Deciding: []string{"paired"}},
		{Name: "a stack that needs a stop on the way", Tale: "The core stack at the depot is to run 6.4.1. Can it go straight there?",
			Args: match("depot-core", "qm-core-6.4.1.zip"), Exit: 1, Verdict: "misfit", Deciding: []string{"path"}},
		{Name: "the way of the stack", Tale: "It cannot, and core-3 was put in only last week. What is the way, then, and the way back?",
			Args: []string{"path", "-device", "depot-core", "-to", "6.4.1"}, Hops: []string{"6.1.2", "boot:6.4.1", "6.3.0", "6.4.1"}},
		{Name: "to the community's software", Tale: "The spare platform router shall run Lantern. Its main image lies in the folder; may it be put on as it is?",
			Args: match("platform-9", "vr510-lantern-23.4.2.bin"), Exit: 1, Verdict: "misfit", Deciding: []string{"path"}},
		{Name: "by way of the converter image", Tale: "What comes first?",
			Args: []string{"path", "-device", "platform-9", "-to", "23.4.2", "-family", "lantern"}, Hops: []string{"23.4.0", "23.4.2"}},
		{Name: "down before up", Tale: "The sign on platform 2 runs a release that was withdrawn, and refuses the new one.",
			Args: []string{"path", "-device", "sign-2", "-to", "latest"}, Hops: []string{"5.1.4", "5.3.0"}},
		{Name: "the files for the server", Tale: "Which files does the stack need for all that, and where must the server offer them?",
			Args: []string{"stage", "-device", "depot-core", "-to", "6.4.1", "-into", "served"}},
		{Name: "what does not fit is not staged", Scene: true, Tale: "And what if somebody takes the wrong bundle for cabinet 12?",
			Args: []string{"stage", "-device", "cabinet-12", "-into", "served", "packages/qm-tram-a-8.4.2.zip"}, Exit: 1},
		{Name: "the steps of the night", Tale: "Cabinet 07 is first. What is to be done, in which order, and what must be seen at each step?",
			Args: []string{"runbook", "-device", "cabinet-07", "-server", "192.0.2.10", "packages/qm-tram-8.4.2.zip"}},
		{Name: "afterwards", Tale: "It is done, and the console was captured. Did the install do what the plan said?",
			Args: []string{"confirm", "-device", "cabinet-07", "-after", "captures/cab07-after.txt", "-to", "8.4.2"}, Verdict: "fits", Deciding: []string{"version", "slot"}},
		{Name: "not the image for its boot loader", Scene: true, Tale: "The router on platform 2 does not start any more; its boot loader waits. A colleague hands over the image for an upgrade.",
			Args: []string{"recover", "-device", "platform-2", "packages/vr510-3.4.0.bin"}, Exit: 1, Verdict: "misfit"},
		{Name: "the router is brought back", Tale: "Velloway has images for recovery. Here is the boot loader of a stand-in: watch it, and give it the right one when it waits.",
			Args:   []string{"recover", "-device", "platform-2", "packages/vr510-recovery-3.4.0.zip", "-watch", "-address", "127.0.0.1", "-port", "PORT", "-probe", "udp:ECHO", "-settle", "10m", "-for", "10m"},
			Beside: []string{"stand-in", "-device", "platform-2", "-port", "PORT", "-echo", "ECHO", "-old", "800ms", "-dead", "400ms", "-wait", "10m", "-write", "800ms"}, Verdict: "fits"},
		{Name: "the files of tonight", Tale: "The night has come. First the files for cabinet 07, where the server will give them out.",
			Args: []string{"stage", "-device", "cabinet-07", "-into", "tonight", "packages/qm-tram-8.4.2.zip"}},
		{Name: "the night itself", Tale: "And now, for real: a stand-in plays the switch, fetches from this computer, and somebody types at its console what each step says. The first fetch fails.",
			Args:   []string{"runbook", "-device", "cabinet-07", "-follow", "-serve", "tonight", "-tftp", "127.0.0.1:PORT", "-server", "127.0.0.1:PORT", "-record", "tonight.jsonl", "packages/qm-tram-8.4.2.zip"},
			Beside: []string{"stand-in", "-upgrade", "-device", "cabinet-07", "-console", "127.0.0.1:ECHO", "-restart", "300ms", "-fail-first", "1"}, Console: "127.0.0.1:ECHO"},
		{Name: "nested bundle", Tale: "The depot sends all of it in one file. Is everything in there whole?",
			Args: []string{"survey", "packages/depot-2026-11.tar.gz"}},
		{Name: "hostile package", Tale: "This one came by mail, from nobody knows whom.",
			Args: []string{"survey", "packages/gift.zip"}, Exit: 1},
		{Name: "deep scan", Tale: "And what did the flash chip of cabinet 07 hold, before anybody touched it?",
			Args: []string{"survey", "-deep", "packages/flash-07.bin"}},
	}
}

// manifestText lists the files of a bundle in the form that the rulebook describes,
// each with its digest, so that the signature over the list speaks for every image.
func manifestText(release string, b1 bool, images map[string][]byte) string {
	var b strings.Builder
	record := func(component, file, version, revisions string) {
		fmt.Fprintf(&b, "%-4s  %s  %s  revs=%s  sha256=%x\n", component, file, version, revisions, sha256.Sum256(images[file]))
	}
	fmt.Fprintf(&b, "# Quillmere tram release %s\n\n[QM-8T]\n", release)
	record("boot", "boot/qm8t-boot-a.bin", "3.2.0", "A1,A2")
	if b1 {
		record("boot", "boot/qm8t-boot-b.bin", "3.2.0", "B1")
	}
	record("main", "qm8t-a.img", release, "A1,A2")
	if b1 {
		record("main", "qm8t-b.img", release, "B1")
	}
	record("poe", "poe/qm-poe-a.qmi", "2.2", "A1,A2")
	if b1 {
		record("poe", "poe/qm-poe-b.qmi", "2.2", "B1")
	}
	fmt.Fprintf(&b, "\n[QM-24T]\n")
	record("main", "qm24t.img", release, "A1")
	return b.String()
}
