package cli

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/renameio/v2/maybe"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/kit"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "device", order: 10, args: "[-out FILE] [-set K=V]… SOURCE…", tells: true, folds: []string{page.Why}, reports: true,
	part: partDevice, example: "device captures/cab07.txt",
	short: "what is this device? Builds or updates its device file",
	long: `SOURCE is what was read off the device: a console capture, an identity EEPROM (raw or as
a hex dump), a device tree (blob, or the folder /proc/device-tree), an inventory (RFC 8348
or 7317 as JSON or XML, Redfish), or an SNMP walk of the ENTITY-MIB. Captures are read as
the kit's rulebooks say; without one that knows them, values are only proposed, and marked
as guesses, which never count as known. Without -out the device file is printed. With it,
FILE is written, or updated where it is there; that needs -replace. What sources contradict
each other on is left out and told: settle it with -set, as in -set revision=A2, or
-set MEMBER/revision=A2 for a member. With -into DIR each device that the sources tell of gets a
file of its own: a row of comma-separated values, an object of a JSON list, a box of an inventory
that nothing calls a stack, an SNMP walk, a capture; folders and patterns stand for their files, and
what several say of one device, by serial number or name, is joined. -map model=Type,serial=S/N
says which column, or path of keys, is what; one whose heading is a key needs none. A row without
a name or a serial number is refused with its line (1). The exit status is 3 while something is unsettled.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		out := f.String("out", "", "the device `file` to write or update")
		name := f.String("name", "", "the device's `name` in your inventory")
		replace := f.Bool("replace", false, "update a file that is there")
		into := f.String("into", "", "of sources that tell of several devices: the `folder` for a device file each")
		columns := columnsFlag{}
		f.Var(columns, "map", "of such an inventory: which column, or path of keys, is what, as `KEY=HEADING`, separated by commas")
		var byHand byHandFlag
		f.Var(&byHand, "set", "what you know yourself, as `KEY=VALUE`; may be given several times")
		return func(_ context.Context, c *call, args []string) (int, error) {
			if len(args) == 0 && len(byHand) == 0 {
				return 0, usagef("device takes what was read off the device: captures, dumps, inventories; or -set")
			}
			k, err := c.kit()
			if err != nil {
				return 0, err
			}
			if *into != "" || len(columns) > 0 {
				switch {
				case *into == "":
					return 0, usagef("an inventory of several devices needs -into: the folder for the device files")
				case len(args) == 0 || *out != "" || *name != "" || len(byHand) > 0:
					return 0, usagef("-into takes inventories, captures or folders of them, and neither -out, -name nor -set")
				}
				return c.inventory(k, args, *into, columns, *replace)
			}
			if *name != "" {
				byHand = append(byHand, device.Value{Key: "name", Text: *name, At: fact.Source{Kind: fact.Command, File: device.ByHand + " name=" + *name}})
			}
			return c.device(k, args, *out, *replace, byHand)
		}
	},
})

// In one piece: the steps of the call, each of which may end it.
func (c *call) device(k *kit.Kit, sources []string, out string, replace bool, byHand []device.Value) (int, error) {
	var readings []*device.Reading
	for _, s := range sources {
		r, err := readSource(k, s)
		if err != nil {
			return 0, err
		}
		readings = append(readings, r)
	}
	var have *device.Device
	var haveText []byte
	if out != "" {
		text, err := kit.ReadText(out)
		switch {
		case err == nil:
			if have, err = device.Read(out, text); err != nil {
				return 0, err
			}
			haveText = text
		case !errors.Is(err, os.ErrNotExist):
			return 0, err
		}
	}
	draft := device.Merge(readings, byHand, have, k)
	text, err := draft.Write(fallbackName(out, sources), haveText)
	if err != nil {
		return 0, err
	}
	where := out
	if where == "" {
		where = "the device file"
	}
	built, err := device.Read(where, text)
	if err != nil {
		return 0, fmt.Errorf("what the sources say makes no device file: %w", err)
	}
	doc := present.DeviceReading{Device: built, Draft: draft, Readings: readings, Out: out, Text: text, Had: have != nil}
	status := exitFits
	if len(draft.Contradictions) > 0 || doc.Guesses() > 0 {
		status = exitUnsettled
	}
	switch {
	case out == "":
	case bytes.Equal(text, haveText):
		doc.Written = "says this already"
	case len(draft.Contradictions) > 0:
		doc.Written = "is not written: settle the contradictions first"
	case have != nil && !replace:
		return 0, fmt.Errorf("%s: the file is there and would change%s; give -replace to update it", out, changes(draft))
	default:
		if err := os.MkdirAll(filepath.Dir(out), 0o755); err != nil {
			return 0, err
		}
		if err := maybe.WriteFile(out, text, 0o644); err != nil {
			return 0, err
		}
		doc.Written = "is written"
		if have != nil {
			doc.Written = "is updated"
		}
	}
	if c.json || out != "" || c.report != "" {
		return status, c.tell(present.DeviceJSON(doc), present.DevicePage(doc))
	}
	// The file itself, so that it can be redirected; what to know of it beside it.
	fmt.Fprint(c.env.Stdout, page.SafeLines(string(text)))
	beside := c.screen()
	beside.Out, beside.Color = c.env.Stderr, false
	beside.Show(present.DeviceRemarks(doc))
	return status, nil
}

func changes(d *device.Draft) string {
	if len(d.Changes) == 0 {
		return ""
	}
	return " (" + strings.Join(d.Changes, "; ") + ")"
}

func readSource(k *kit.Kit, path string) (*device.Reading, error) {
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		return device.ReadFolder(path)
	}
	data, err := kit.ReadText(path)
	if err != nil {
		return nil, err
	}
	return device.ReadSource(filepath.ToSlash(path), data, k.CaptureRules())
}

// fallbackName names a device whose sources do not: after the file that is
// written, else after the first source.
func fallbackName(out string, sources []string) string {
	for _, p := range append([]string{out}, sources...) {
		if p != "" {
			base := filepath.Base(p)
			return strings.TrimSuffix(base, filepath.Ext(base))
		}
	}
	return "device"
}

// byHandFlag is the value of the flag -set.
type byHandFlag []device.Value

func (b *byHandFlag) String() string { return "" }

func (b *byHandFlag) Set(text string) error {
	v, err := device.ByHandValue(text)
	*b = append(*b, v)
	return err
}
