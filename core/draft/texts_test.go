package draft

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatTextsAreReadAs holds what single names, labels, cells, titles and versions are read as against
// testdata/texts.txt.
func TestWhatTextsAreReadAs(t *testing.T) {
	var b strings.Builder
	section := func(name string) { fmt.Fprintf(&b, "## %s\n", name) }
	tell := func(in string, out any) { fmt.Fprintf(&b, "%q: %s\n", in, pagetest.Line(out)) }

	section("versions")
	versions := []string{
		"8.4.2", "8.4", "8", "v8.4.2", "V8", "8.4.2c", "8.4.2-rc1", "R12.4-b731", "R12.4", "4.1.0 build 100", "2026.02.03", "20261001", "3.1(2)E4", "3.1(10)", "FW-7", "FW-12b", "3.1A2",
		"1b2-3", "1-3b2", "x", "", "8..4", "8.4.", ".8", "8.4.2.1.7", "08.04", "8_4_2", "8.4.2+7", "build 7", "8.4 (b7)", "a8.4.2", "8.4.2\u00a0x", "10", "9999999999999999999999",
	}
	for _, v := range versions {
		prefix, segments, tail, ok := cut(v)
		fmt.Fprintf(&b, "%q: %q + %d + %q %v, without spaces %q\n", v, prefix, len(segments), tail, ok, unspaced(v))
		for _, s := range segments {
			fmt.Fprintf(&b, "    %+v key %q\n", s, s.key(new(int)))
		}
	}
	section("shapes of two versions")
	for i, v := range versions {
		for _, step := range []int{1, 2, 5} {
			w := versions[(i+step)%len(versions)]
			if s, ok := shape([]string{v, w}); ok {
				fmt.Fprintf(&b, "%q and %q: %s %v\n", v, w, s.Pattern, s.Order)
			}
			if isShort(v, []string{w}) || isShort(w, []string{v}) {
				fmt.Fprintf(&b, "%q and %q: one is the other, in short\n", v, w)
			}
		}
	}
	section("short forms")
	known := []string{"8.4.2", "8.10.0", "v7.1.3", "R12.4-b731", "3.1(2)E4", "4.1.0 build 100"}
	for _, v := range []string{"8.4", "8", "8.3", "9.4", "8.10", "8.1", "v8.4", "v7.1", "7.1", "R12.4", "12.4", "S12.4", "3.1", "3.1(2)", "4.1", "4.1.0", "8.4.2", "8.4.2.1", "12.4", "5.10", "8.x", "8.4b"} {
		tell(v, isShort(v, known))
	}

	section("names")
	names := []string{
		"qm-tram-8.4.2.zip", "KX8_fw_v8.4.2_A1.bin", "kx8-8.4.2-8.4.1.img", "FW842.bin", "8.4.2.zip", "kx.8.4.2.tar.gz", "Release Notes 8.4.2.pdf", "image-kx-seven-8.4.2.zip", "kx8", "a--b__c.bin", "KX-8T2.image",
		"kx8(8.4.2).bin", "kx8 8_4_2.bin", "kx8-20261001.bin", ".hidden", "kx8-8.4.2.bin.sig", "",
	}
	for _, n := range names {
		stem, tail := split(n)
		fmt.Fprintf(&b, "%q: %q + %q, words %q, glob %q, squeezed %q\n", n, stem, tail, nameWords(n), globOf(n), squeezed(n))
		for _, v := range []string{"8.4.2", "8.4.1", "842", "8_4_2", "8.4"} {
			if at := findVersion(stem, v); at != nil {
				fmt.Fprintf(&b, "    %s at %v\n", v, at)
			}
		}
	}

	section("titles")
	titles := []string{
		"KX-5 8.4.2", "KX-5 loader 1.2.0", "boot for KX-7 rev A1", "Kennelway core 6.4.1 (14 September 2026)", "3 models: KX-5", "1.2", "system image 7 of KX-5 8.4.2", "", "main", "KX-5 8.4.2 for KX-7 8.4.1", "v8.4.2", "5 KX",
	}
	for i, s := range titles {
		fmt.Fprintf(&b, "%q: version at %v, known 8.4.2 at %v, model %q, words %s\n", s, titleVersion(s), titleVersion(s, "8.4.2", "1.2"), modelIn(s), wordsOf(s))
		x, y := literal(s), literal(titles[(i+1)%len(titles)])
		fmt.Fprintf(&b, "    %s\n    with the next: %s\n", x, joinTitles("^"+x+"$", "^"+y+"$"))
	}
	for _, p := range [][2]string{{"", "^a$"}, {"^a$", ""}, {"^a$", "^a$"}, {`^a\s+b$`, `^a\s+c$`}, {`^a\s+b$`, `^a$`}, {`^a\s+(?P<version>\d)$`, `^a\s+b$`}, {`^a\s+(?P<version>\d)$`, `^b\s+(?P<version>\d)$`}} {
		fmt.Fprintf(&b, "%q and %q: %q\n", p[0], p[1], joinTitles(p[0], p[1]))
	}

	section("revisions")
	for _, s := range []string{"A1", "A1-A3", "A1..A3", "A1 – B3", "a-c", "c-a", "A-A", "1-3", "3-1", "v1-v2", "v1-V3", "A1/A2", "A1-", "-A1", "A100-A102", "rev1-rev12", "", "ab-cd", "abcd-efgh", "A1-A1"} {
		tell(s, spelled(s))
	}

	section("labels")
	for _, s := range []string{
		"Model", "Model number", "Hardware revision", "HW Rev", "Serial number", "Boot loader", "Software version", "Software", "Firmware", "Bank 1", "Uptime", "Total memory", "Flash free", "Free flash", "Running image", "PoE firmware",
		"Hostname", "Name", "Switch", "Image file", "Configuration", "Board revision", "Board", "Next boot", "CPU", "Arch", "", "Version", "System", "Part number", "Product", "Type", "Chassis", "Unit", "Boot version", "Last reload", "License",
	} {
		fmt.Fprintf(&b, "%q: %q, %s\n", s, labelKey(s), labelPattern(s, ":"))
	}
	section("keys")
	for _, s := range []string{"file", "path", "sha256", "SHA-256", "md5", "size", "bytes", "length", "version", "ver", "release", "model", "models", "device", "board", "rev", "revision", "hw", "arch", "cpu", "component", "part", "type", "family", "date", "x", "", "crc32", "name", "image", "min_version", "region"} {
		tell(s, meaningOf(s))
	}

	section("cells")
	for _, s := range []string{
		"8.2.1", "8.2.1 or later", "8.2.1+", "8.2.x", "8.x.x", "v8.2.*", "earlier than 8.0.0", "7.9.4 or earlier", "8.0.0 - 8.2.1", "8.0.0 to 8.2.1", "8.0.0 through 8.2.1", ">= 8.1", "any", "8.2.1, 8.2.2", "at least 3.1", "", "-", "none", "n/a", "yes", "no", "all", "older", "x.x", "8.2.1 and 8.2.2",
		"8.2.1 → 8.3.0", "8.2.1 then 8.3.0", "8.2.1 > 8.3.0", "8.2.1; 8.3.0", "8.2.1 / 8.3.0", "8.2.1\n8.3.0", "below 8", "< 8", "up to 8.2", "until 8.2", "newer than 8.2", "> 8.2", "3.x", "8.2.1 (b7)", "`8.2.1`", "**8.2.1**", "<b>8.2.1</b>", "&lt;8.2.1", "8.2.1[1]",
	} {
		fmt.Fprintf(&b, "%q: within %q, at least %q, nothing %v, stops %q, list %q, text %q\n", s, Within(s), atLeast(s), nothing(s), splitStops(s), splitList(s), cellText(s))
	}

	section("headings and quotes")
	for _, s := range []string{"Supported models", "Models:", "### Hardware", "Applies to: KX-5", "- KX-5 (revisions A1, A2)", "Release notes of 6.4.1", "a: b", "it's", "yes", "8.4", "1e3", "# x", "x # y", "tab\tx", "line\nx", "", " x ", "null", "{x}", "a, b", "\u202ex", "é", "~", "0x10", "2026-01-02", "-", "- x", "*a", "&a", "!a", "%a", "@a", "`a", "a\\b", "\"a\""} {
		shape, ok := devicesShape(s, "")
		fmt.Fprintf(&b, "%q: heading %q, devices %q %v, models %q, quoted %s, single %s, clipped %q, unquoted %q\n", s, headingShape(s), shape, ok, modelsPattern(s), quote(s), single(s), clip(s, 5), unquote(s))
	}
	pagetest.Hold(t, filepath.Join("testdata", "texts.txt"), b.String())
}
