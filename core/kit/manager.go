package kit

import (
	"path/filepath"
	"slices"
	"strings"

	"fitcheck/core/device"
)

// findManagers looks for the devices that manage one: among the members of its own file,
// then in the kit, by file name, then by what the file gives as its name. One that is not
// found, or whose file is at fault, stays unknown: what asks for it says so.
func (k *Kit) findManagers(d *device.Device) {
	for _, name := range d.ManagerNames() {
		m := member(d, name)
		if m == nil {
			m = k.manager(name)
		}
		if m != nil && m != d {
			if d.Managers == nil {
				d.Managers = map[string]*device.Device{}
			}
			d.Managers[name] = m
		}
	}
}

func member(d *device.Device, name string) *device.Device {
	all := d.All()
	if i := slices.IndexFunc(all, func(m *device.Device) bool { return m.Name.Text == name }); i >= 0 {
		return all[i]
	}
	return nil
}

// manager reads a device of the kit; a thousand devices of one manager read it once.
func (k *Kit) manager(name string) *device.Device {
	if m, looked := k.managers[name]; looked {
		return m
	}
	if k.managers == nil {
		k.managers = map[string]*device.Device{}
	}
	k.managers[name] = k.lookForDevice(name)
	return k.managers[name]
}

func (k *Kit) lookForDevice(name string) *device.Device {
	files, err := yamlFiles(filepath.Join(k.Dir, "devices"))
	if err != nil {
		return nil
	}
	named := func(f string) bool {
		return strings.TrimSuffix(filepath.Base(f), filepath.Ext(f)) == name
	}
	slices.SortStableFunc(files, func(a, b string) int {
		switch {
		case named(a) == named(b):
			return 0
		case named(a):
			return -1
		}
		return 1
	})
	for _, f := range files {
		data, err := ReadText(f)
		if err != nil {
			continue
		}
		d, err := device.Read(k.show(f), data)
		if err != nil {
			continue
		}
		if m := member(d, name); m != nil {
			return m
		}
		if named(f) || d.Name.Text == name {
			return d
		}
	}
	return nil
}
