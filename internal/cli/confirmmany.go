package cli

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/maruel/natural"

	"fitcheck/core/device"
	"fitcheck/core/fit"
	"fitcheck/core/kit"
	"fitcheck/core/plan"
	"fitcheck/internal/present"
)

// captureFiles expands folders of captures to their files.
func captureFiles(names []string) ([]string, error) {
	var out []string
	for _, n := range names {
		info, err := os.Stat(n)
		if err != nil || !info.IsDir() {
			out = append(out, n)
			continue
		}
		entries, err := os.ReadDir(n)
		if err != nil {
			return nil, err
		}
		var files []string
		for _, e := range entries {
			if e.Type().IsRegular() && !strings.HasPrefix(e.Name(), ".") {
				files = append(files, filepath.ToSlash(filepath.Join(n, e.Name())))
			}
		}
		slices.SortFunc(files, natural.Compare)
		out = append(out, files...)
	}
	return out, nil
}

// whose finds the device that a capture is of: by a serial number, else by its name. Several of
// one name, or none, leave it nobody's.
func whose(k *kit.Kit, devices []*device.Device, r *device.Reading) *device.Device {
	serials, names := map[string]bool{}, map[string]bool{}
	for _, f := range device.Merge([]*device.Reading{r}, nil, nil, k).Findings {
		for _, v := range f.Values {
			switch {
			case v.Guess:
			case f.Key == "serial":
				serials[strings.ToLower(v.Text)] = true
			case f.Key == "name":
				names[strings.ToLower(v.Text)] = true
			}
		}
	}
	find := func(of func(b *device.Device) string, in map[string]bool) *device.Device {
		var found *device.Device
		for _, d := range devices {
			for _, b := range append([]*device.Device{d}, d.All()...) {
				if t := strings.ToLower(of(b)); t != "" && in[t] && found != d {
					if found != nil {
						return nil
					}
					found = d
				}
			}
		}
		return found
	}
	if d := find(func(b *device.Device) string { return b.Serial.Text }, serials); d != nil || len(serials) > 0 && knowsSerials(devices) {
		return d
	}
	return find(func(b *device.Device) string { return b.Name.Text }, names)
}

// knowsSerials tells whether every device file gives a serial number, so that a capture with
// another is of none of them.
func knowsSerials(devices []*device.Device) bool {
	for _, d := range devices {
		for _, b := range d.All() {
			if !b.Serial.Set() {
				return false
			}
		}
	}
	return true
}

// confirmMany confirms several devices by a heap of captures, told apart by whom they show.
func (p *planning) confirmMany(ctx context.Context, c *call, devices []*device.Device, after, before []string, format string, record, by string) (int, error) {
	of := map[*device.Device][]string{}
	var nobodys []string
	for _, f := range after {
		r, err := readSource(p.k, f)
		if err != nil {
			nobodys = append(nobodys, f)
			continue
		}
		d := whose(p.k, devices, r)
		if d == nil {
			nobodys = append(nobodys, f)
			continue
		}
		of[d] = append(of[d], f)
	}
	var all []present.Confirmed
	status := exitFits
	for _, d := range devices {
		doc := present.Confirmed{Confirmation: &plan.Confirmation{Device: d.Name.Text, To: p.goal.Version, Verdict: fit.Unsettled}, NoPlan: []present.Refused{{Device: d.Name.Text, Outcome: fit.Unsettled, Because: []string{"no capture shows it"}}}}
		if len(of[d]) > 0 {
			inner := *p
			var t *plan.Target
			var err error
			if doc, t, err = inner.confirmed(ctx, c, d, of[d], before); err != nil {
				if ctx.Err() != nil {
					return 0, ctx.Err()
				}
				doc = present.Confirmed{Confirmation: &plan.Confirmation{Device: d.Name.Text, To: p.goal.Version, Verdict: fit.Unsettled}, After: of[d], NoPlan: []present.Refused{{Device: d.Name.Text, Outcome: fit.Unsettled, Because: []string{err.Error()}}}}
			} else if record != "" {
				if err := appendRecord(record, by, t, doc, of[d]); err != nil {
					return 0, err
				}
			}
		}
		if s := statusOf(doc.Verdict()); s == exitMisfit || status == exitFits {
			status = s
		}
		all = append(all, doc)
	}
	if format == "csv" {
		return status, present.ConfirmedCSV(c.env.Stdout, all...)
	}
	return status, c.tell(present.ConfirmJSON(all...), present.ConfirmedPage(all, nobodys))
}
