package draft

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// forms are the forms of a sentence of release notes; V and W are versions in any spelling.
var forms = []string{
	"From V upgrade to W first.", "Upgrades from V to W are not supported.", "Upgrades from V to W are supported.", "Upgrade from V by way of W.",
	"V cannot be upgraded directly.", "V cannot be upgraded directly to W.", "Devices running V must be upgraded to W before 8.4.2 is installed.",
	"W must be installed before V.", "Install W first, then V.", "Requires V.", "V is required.", "Needs at least V.", "V includes boot loader 3.2.0.",
	"Direct upgrades are supported from V.", "Downgrading to V is not supported.", "Going back to V erases the configuration.",
	"Rolling back from V to W is possible.", "Upgrading from V loses all settings.", "The configuration is kept when V is upgraded.",
	"V was withdrawn.", "The KX-2 is no longer supported from V.", "The boot loader must be V.", "The boot loader V comes with this release.",
	"Fixed since V: a leak.", "On the KX-8, V is needed.", "The controller must run V.", "PoE firmware V or boot loader W is needed.",
	"Do not install V on a KX-2 of revision B1.", "If V shows error 12, go to W first.", "V cannot be upgraded directly. Install W first.",
	"V cannot be upgraded directly. There is a cure. Install W first.", "V cannot be upgraded directly. There is a cure. It takes long. Install W first.",
}

var spellings = []string{
	"8.2.1", "release 8.3", "8.0", "8.2.1 or later", "a release before 8.2.1", "releases older than 8.3.0", "8.0.x", "8.0.3 to 8.2.1", "8.0.3 and 8.2.1", "up to 8.2.1",
	"anything newer than 8.2.1", "8.2.1 or earlier", "versions below 8.2", "8.2.1+", "8.4.2", "v8.2.1", "9.0", "7.1", "2.1", "version 8.2.1 through 8.3.0",
}

// TestWhatFormsBecome holds what sentences in many forms, with versions in many spellings, become in a draft, against
// testdata/forms.txt: each on its own in the notes of 8.4.2.
func TestWhatFormsBecome(t *testing.T) {
	var b strings.Builder
	told := map[string]bool{}
	tell := func(s string) {
		if told[s] {
			return
		}
		told[s] = true
		if now := asDrafted(t, s); len(now) > 0 {
			fmt.Fprintf(&b, "%s\n    %s\n", s, strings.Join(now, "\n    "))
		}
	}
	for i, form := range forms {
		for k, v := range spellings {
			with := strings.ReplaceAll(form, "V", v)
			if strings.Contains(form, "W") {
				for _, w := range []string{"8.3.0", spellings[(i+k*3)%len(spellings)]} {
					tell(strings.ReplaceAll(with, "W", w))
				}
				continue
			}
			tell(with)
		}
	}
	for _, s := range []string{
		"12 minutes", "12-15 minutes", "12 – 15 min", "12 to 15 minutes", "1 hour", "90 seconds", "12 minutes, of which 8 are without service", "12 minutes; the outage is 12 minutes",
		"12 minutes, including 3 offline", "15 to 12 minutes", "0 minutes", "1 minute", "1440 minutes", "100000 minutes",
	} {
		tell("The installation takes " + s + ".")
		tell("The outage lasts " + s + ".")
		tell("The device is started again after " + s + ".")
	}
	for _, s := range []string{"64 MB", "64MiB", "1.5 GB", "512 kB", "0 MB", "64 MB and 128 MB", "64 bytes", "1,5 GB", "1,024 MB", "1,5,0 MB", "2 TB"} {
		tell("At least " + s + " of memory are needed.")
		tell("At least " + s + " of free storage are needed.")
		tell("At least " + s + " are needed in flash and RAM.")
		tell("The image has " + s + ".")
	}
	pagetest.Hold(t, filepath.Join("testdata", "forms.txt"), b.String())
}
