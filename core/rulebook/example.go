package rulebook

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"fitcheck/core/device"
	y "fitcheck/core/yamlfile"
)

// Example is a question with its right answer: a device against a package, a device and where
// it is to go, or a capture and what it tells.
type Example struct {
	y.Spot
	Device  *device.Device `yaml:"device" doc:"the keys of a device file"`
	Package y.String       `yaml:"package" doc:"name of a package of the kit; want is fits, misfit or unsettled, or the code of a reason"`
	To      y.String       `yaml:"to" doc:"where the device is to go; want lists the releases on the way, boot: before one of which only the boot loader is installed; [] where it runs it already; or is none"`
	Capture y.String       `yaml:"capture" doc:"file in the kit; want is the keys of a device file that it tells"`
	Want    Want           `yaml:"want"`
}

// Want is a right answer: a text, a list of texts, or keys with their values.
type Want struct {
	y.Spot
	Texts  []y.String
	Values y.Map[y.String] `yaml:",rest"`
}

// FromScalar reads a single text.
func (w *Want) FromScalar(text string, at y.Spot) error {
	w.Spot, w.Texts = at, []y.String{{Text: text, Spot: at}}
	return nil
}

// List reads several.
func (w *Want) List(at y.Spot) any {
	w.Spot = at
	return &w.Texts
}

// Text is the answer in words.
func (w *Want) Text() string {
	if len(w.Values.Entries) == 0 {
		return texts(w.Texts)
	}
	var out []string
	for _, e := range w.Values.Entries {
		out = append(out, e.Key+": "+e.Value.Text)
	}
	return strings.Join(out, ", ")
}

// examples checks that each asks one thing, in a way that can be answered.
//
// In one piece: the rules on an example, one after the other.
func (c *checker) examples() {
	for i := range c.r.Examples {
		x := &c.r.Examples[i]
		asks := 0
		for _, t := range []y.String{x.Package, x.To, x.Capture} {
			if t.Set() {
				asks++
			}
		}
		switch {
		case asks != 1:
			c.fail(x.Spot, "an example asks one thing: of a device and a package, of a device and where it is to go, or of a capture", "give one of package:, to: and capture:")
			continue
		case x.Capture.Set() && x.Device != nil:
			c.fail(x.Spot, "a capture tells the device itself", "take device: out")
		case !x.Capture.Set() && x.Device == nil:
			c.fail(x.Spot, "the example has no device", "add device: {model: …}")
		}
		if x.Device != nil {
			x.Device.File = c.r.File
			if !x.Device.Name.Set() {
				x.Device.Name = y.String{Text: "example", Spot: x.Spot}
			}
			x.Device.Check(c.fail)
		}
		w := &x.Want
		switch {
		case x.Capture.Set() && (len(w.Values.Entries) == 0 || len(w.Texts) > 0):
			c.fail(x.Spot, "want of a capture gives keys of a device file and their values", "write want: {model: …, installed.main: …}")
		case x.Capture.Set():
			if !filepath.IsLocal(filepath.FromSlash(x.Capture.Text)) {
				c.fail(x.Capture.Spot, fmt.Sprintf("%q leads out of the kit", x.Capture.Text), "write the name of a file in the kit: captures/…")
			}
			for _, e := range w.Values.Entries {
				if err := device.CheckKey(e.Key); err != nil {
					c.fail(e.Spot, err.Error(), "")
				}
			}
		case x.To.Set() && w.Line > 0 && len(w.Values.Entries) == 0 && len(w.Texts) == 0: // there is nothing to do
		case len(w.Values.Entries) > 0 || len(w.Texts) == 0:
			c.fail(x.Spot, "the example does not say what is right", "add want:")
		case x.Package.Set() && (len(w.Texts) != 1 || !slices.Contains([]string{"fits", "misfit", "unsettled"}, w.Texts[0].Text) && !strings.Contains(w.Texts[0].Text, ".")):
			c.fail(w.Spot, fmt.Sprintf("want is fits, misfit, unsettled or the code of a reason, not %q", w.Text()), "")
		}
	}
}
