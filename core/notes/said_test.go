package notes

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/rulebook"
	"fitcheck/internal/pagetest"
)

// fuller says more than rules does, and less of some things.
const fuller = `kind: rulebook
title: t
maker: m
sources: {RN: "Release notes"}
models: {Q-1: {also: [Q1], families: [f]}, Q-2: {families: [g]}, VR-210: {families: [g]}}
families:
  f: {components: {boot: {title: First stage}, main: {title: system image}, poe: {optional: true}}}
  g: {components: {main: {}}}
versions: {default: {pattern: '^v?(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)$', order: [a, b, c]}, poe: natural}
packages: [{file: '^x$', handling: whole}]
remedies: [{shows: 'error 28\b', do: free some space}]
releases:
  - version: 8.4.2
    families: [f]
    resets_config: true
    models: [Q-1]
    needs:
      - {component: main, within: ">=8.2.1"}
      - {component: poe, within: ">=2.1"}
      - {storage_free: 64MiB}
      - {memory: 512MB}
      - {feature: vlan}
      - {attached: VR-210}
  - {version: 8.2.1, families: [f]}
  - {version: 8.0.0}
hops:
  upward: open
  rules:
    - {to: ">=8.4.0", allow: true, via: 8.2.1}
    - {from: "8.2.1", allow: true}
`

// bare says next to nothing.
const bare = `kind: rulebook
title: t
maker: m
models: {Q-1: {families: [f]}}
families: {f: {components: {main: {}}}}
releases: [{version: 8.4.2}]
`

var heads = []string{"Release notes 8.4.2", "Known issues", "Resolved problems", "Before you begin", "Supported models", "Upgrading", "Overview"}

var said = []string{
	"The boot loader must be 3.2.0 or later.", "Bootloader 3.3.0 or newer is required.", "First stage 3.2.0 is needed.", "firststage 1.0.0 is required.", "Requires controller 5.1 or later.", "Requires radiod 2.7 or later.", "The PoE firmware must be at least 2.1.",
	"At least 256 MiB of memory is required.", "At least 512 MB of RAM is required.", "At least 64 MiB of free flash memory are needed.", "You need 100 MB free on the flash.", "Needs 1.5 GB.", "At least 1,024 MB of memory are needed.", "Requires 0,5 GB of RAM.", "At least 262,144 KiB of memory is required.", "Upgrade to 8.2.1 first.", "Install v8.2.1 before 8.4.2.",
	"Devices below 8.0.0 must go by way of 8.2.1.", "A direct upgrade from 7.9.4 is not possible.", "Upgrading resets the configuration.", "The settings are lost when you go back to 8.2.1.", "The configuration is erased by 9.9.9.", "Save the configuration before you begin.", "Back up your settings first.",
	"Do not unpack the download.", "The archive must be unpacked first.", "Serve the file as it was downloaded.", "The VR-210 is no longer supported.", "Support for the Q-2 was dropped.", "Q1 is supported.", "It applies to the Q-1 and the Q-2.", "Downgrading to 8.2.1 is possible.", "It is not possible to go back below 8.2.1.", "Rolling back needs the console.",
	"Error 28 means that the flash is full; free some space.", "If error 99 is shown, restart.", "Ports may flap after a cold start.", "Fixed: a leak in 8.2.1.", "The vlan feature must be on.", "A VR-210 must be attached.", "None", "None.", "n/a", "Version 8.4.2 is required.", "8.4.2", "The upgrade takes 12 minutes.", "Thanks to all.", "Important: read this first.",
	"8.4.2.1 must be installed.", "The main image must be 8.2.1 or later.", "Requires 18.2.1 or later.", "memory", "Requires version 5.", "The system image 8.2.1 is needed before this release.",
}

// TestWhatIsSaid holds what sentences of notes are taken for, and what rulebooks say of the same, against
// testdata/said.txt.
func TestWhatIsSaid(t *testing.T) {
	var b strings.Builder
	for i, text := range []string{rules, fuller, bare, ""} {
		var rb *rulebook.Rulebook
		var rel *rulebook.Release
		if text != "" {
			var err error
			rb, err = rulebook.Read("r.yaml", []byte(text))
			require.NoError(t, err)
			rel = rb.FindRelease("8.4.2", "f", "", "")
			require.NotNil(t, rel)
		}
		fmt.Fprintf(&b, "## rulebook %d\n", i)
		told := map[string]bool{}
		var sum pagetest.Sum
		for n, head := range heads {
			for _, s := range said {
				d, err := Read("n.txt", []byte(head+"\n"+strings.Repeat("-", len(head))+"\n\n- "+s+"\n"), nil)
				require.NoError(t, err)
				for _, about := range []string{"", "LEAK"} {
					all := Find("n.txt", d, rb, about)
					Compare(all, rb, rel)
					for _, f := range all {
						line := fmt.Sprintf("%q: %s, %s, %v %v unsaid %v %q", f.Text, f.Kind, f.Section, f.Versions, f.Models, f.Unsaid, f.Add)
						if f.Rule != nil {
							line += fmt.Sprintf(", the same %v: %s", f.Rule.Same, f.Rule.Text)
						}
						sum.Add("%s", line)
						alike := strings.Replace(line, f.Section, "", 1)
						if about != "" || n > 0 {
							alike = strings.Join(strings.SplitN(alike, ", ", 2)[:1], "") + string(f.Kind)
						}
						if !told[alike] {
							told[alike] = true
							told[strings.Join(strings.SplitN(alike, ", ", 2)[:1], "")+string(f.Kind)] = true
							b.WriteString(line + "\n")
						}
					}
				}
			}
			fmt.Fprintf(&b, "under %s: in all %s\n", head, &sum)
		}
		fmt.Fprintf(&b, "reads %v, of releases %v\n", Models(rb, "Q-1 Q1 q-2 Q-10 XQ-1 VR-210, (Q-1)"), Versions(rb, "8.4.2 v8.2.1 8.0 8.0.0. 18.4.2 8.4.2a (8.2.1) 1.2.3.4 2026-01-02 10:20 3/4"))
	}
	for _, name := range []string{"notes.txt", "Release_Notes.pdf", "readme.html", "README", "readme.md", "changes.txt", "licence.txt", "guide.pdf", "notes.img", "a/b/RELEASE.txt", "x.html", "release-8.4.2.doc", "changelog", "NEWS.txt", "notes"} {
		fmt.Fprintf(&b, "%s is named as notes: %v, a package's own %v\n", name, Named(name), looksLikeNotes("p.zip::"+name, nil))
	}
	for _, s := range []string{"memory", "256 MB of RAM", "flash memory", "drams", "the flash memory and memory", "DRAM", "dram"} {
		fmt.Fprintf(&b, "%q speaks of memory: %v\n", s, SpeaksOfMemory(s))
	}
	pagetest.Hold(t, filepath.Join("testdata", "said.txt"), b.String())
}
