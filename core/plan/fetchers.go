package plan

import (
	"time"

	"fitcheck/core/device"
)

// Fetcher is who fetches the files of a device from the server.
type Fetcher struct {
	By      string // the device, its manager, or a member
	Address string // with the length of its prefix; "" where it is not known
	Wait    time.Duration
}

// fetcherOf is who fetches a file for a box of the device: its manager; a member of a
// cluster by itself; the group as one, where its members share a chassis or a stack.
func fetcherOf(d, box *device.Device) (name, address string) {
	switch {
	case box.ManagedBy.Set():
		if m := box.Manager(); m != nil {
			return m.Name.Text, m.Address.Text
		}
		return box.ManagedBy.Text, ""
	case d.Group.Text == "cluster":
		return d.Name.Text + "/" + box.Name.Text, box.Address.Text
	}
	return d.Name.Text, d.Address.Text
}

// Fetcher is who fetches for a device, and how long the rulebook lets a transfer take; of
// several members that fetch by themselves, the first.
func (t *Target) Fetcher() Fetcher {
	var f Fetcher
	for _, box := range t.Device.All() {
		if f.By == "" {
			f.By, f.Address = fetcherOf(t.Device, box)
		}
		rb := t.Rules(box.Model.Text)
		if rb == nil {
			continue
		}
		for _, s := range rb.Ordered() {
			if s.Step.Text == "transfer" && s.Wait.To > f.Wait {
				f.Wait = s.Wait.To
			}
		}
	}
	return f
}

// Fetchers counts who fetches a file.
func Fetchers(targets []*Target, f Serving) int {
	who := map[string]bool{}
	for _, t := range targets {
		for _, u := range f.For {
			if u.Device != t.Device.Name.Text {
				continue
			}
			for _, box := range t.Device.All() {
				if u.Member == box.Name.Text || u.Member == "" {
					name, _ := fetcherOf(t.Device, box)
					who[name] = true
				}
			}
		}
	}
	return max(1, len(who))
}
