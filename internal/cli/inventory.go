package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/kit"
	"fitcheck/internal/present"
)

// columnsFlag is the value of the flag -map.
type columnsFlag map[string]string

func (m columnsFlag) String() string { return "" }

// Set reads key=HEADING, several of them separated by commas.
func (m columnsFlag) Set(text string) error {
	for part := range strings.SplitSeq(text, ",") {
		key, heading, ok := strings.Cut(part, "=")
		if !ok || strings.TrimSpace(heading) == "" {
			return fmt.Errorf("%q is not KEY=HEADING", part)
		}
		m[strings.TrimSpace(key)] = strings.TrimSpace(heading)
	}
	return nil
}

var notInFileName = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// inventory writes a device file for each device that sources tell of: rows, boxes, captures.
// What several sources say of one device, by its serial number, else by its name, is joined.
func (c *call) inventory(k *kit.Kit, sources []string, into string, columns columnsFlag, replace bool) (int, error) {
	files, err := sourceFiles(k, sources)
	if err != nil {
		return 0, err
	}
	doc := present.Inventory{Source: strings.Join(sources, ", "), Into: into}
	var all []*found
	for _, file := range files {
		data, err := kit.ReadText(file)
		if err != nil {
			return 0, err
		}
		rows, err := device.ReadDevices(filepath.ToSlash(file), data, columns, k.CaptureRules())
		if err != nil {
			if len(files) == 1 {
				return 0, err
			}
			doc.Refused = append(doc.Refused, err.Error())
			continue
		}
		for _, r := range rows {
			if r.Refused != "" {
				doc.Refused = append(doc.Refused, r.Refused)
				continue
			}
			all = join(all, r, file)
		}
	}
	seen := map[string]bool{}
	for _, f := range all {
		if err := c.writeDevice(k, f, into, replace, seen, &doc); err != nil {
			return 0, err
		}
	}
	status := exitFits
	if len(doc.Refused) > 0 {
		status = exitMisfit
	}
	return status, c.tell(present.InventoryJSON(doc), present.InventoryPage(doc))
}

// sourceFiles lists the files that sources stand for: files, folders of them and patterns.
func sourceFiles(k *kit.Kit, sources []string) ([]string, error) {
	var out []string
	for _, s := range sources {
		at := s
		if !exists(at) && filepath.IsLocal(at) && exists(filepath.Join(k.Dir, at)) {
			at = filepath.Join(k.Dir, at)
		}
		all := []string{at}
		if !exists(at) && strings.ContainsAny(at, "*?[") {
			found, err := filepath.Glob(at)
			if err != nil || len(found) == 0 {
				return nil, fmt.Errorf("%s: no file is called so", s)
			}
			all = found
		}
		for _, f := range all {
			info, err := os.Stat(f)
			if err != nil || !info.IsDir() {
				out = append(out, f)
				continue
			}
			entries, err := os.ReadDir(f)
			if err != nil {
				return nil, err
			}
			for _, e := range entries {
				if e.Type().IsRegular() {
					out = append(out, filepath.Join(f, e.Name()))
				}
			}
		}
	}
	return out, nil
}

// found is a device, and what sources say of it.
type found struct {
	name, serial string
	readings     []*device.Reading
	files        []string
}

// join adds a reading to those of the same device that other files gave, else to the list.
func join(all []*found, r device.RowReading, file string) []*found {
	serial := ""
	for _, v := range r.Values {
		if v.Key == "serial" && v.Member == "" {
			serial = v.Text
		}
	}
	i := slices.IndexFunc(all, func(f *found) bool {
		if slices.Contains(f.files, file) { // two rows of one inventory are two devices
			return false
		}
		if serial != "" && f.serial != "" {
			return strings.EqualFold(serial, f.serial)
		}
		return strings.EqualFold(f.name, r.Name)
	})
	if i < 0 {
		return append(all, &found{r.Name, serial, []*device.Reading{r.Reading}, []string{file}})
	}
	f := all[i]
	f.readings, f.files = append(f.readings, r.Reading), append(f.files, file)
	if f.serial == "" {
		f.serial = serial
	}
	if f.name == f.serial && r.Name != serial { // the other source knows its name
		f.name = r.Name
	}
	return all
}

// writeDevice writes the file of one device, or says why not.
func (c *call) writeDevice(k *kit.Kit, f *found, into string, replace bool, seen map[string]bool, doc *present.Inventory) error {
	where := f.readings[0].Values[0].At.Where()
	refuse := func(format string, args ...any) {
		doc.Refused = append(doc.Refused, where+": "+fmt.Sprintf(format, args...))
	}
	name := strings.Trim(notInFileName.ReplaceAllString(f.name, "-"), "-.")
	file := filepath.Join(into, name+".yaml")
	if name == "" || seen[strings.ToLower(name)] {
		refuse("another row is called %s, too", f.name)
		return nil
	}
	seen[strings.ToLower(name)] = true
	draft := device.Merge(f.readings, nil, nil, k)
	if len(draft.Contradictions) > 0 {
		refuse("%s: %s", draft.Contradictions[0].Label(), draft.Contradictions[0].Text())
		return nil
	}
	text, err := draft.Write(f.name, nil)
	if err == nil {
		_, err = device.Read(filepath.ToSlash(file), text)
	}
	if err != nil {
		refuse("it makes no device file: %v", err)
		return nil
	}
	for _, r := range f.readings {
		doc.Notes = append(doc.Notes, r.Notes...)
	}
	have, err := os.ReadFile(file)
	switch {
	case err == nil && bytes.Equal(have, text):
		doc.Same++
	case err == nil && !replace:
		doc.Refused = append(doc.Refused, file+" is there already, and says something else; give -replace to write it anew")
		return nil
	case err != nil && !errors.Is(err, os.ErrNotExist):
		return err
	default:
		if err := os.MkdirAll(into, 0o755); err != nil {
			return err
		}
		if err := writeNew(file, true, func(b *strings.Builder) error { b.Write(text); return nil }); err != nil {
			return err
		}
		doc.Written++
	}
	doc.Devices = append(doc.Devices, present.InventoryDevice{Name: f.name, File: filepath.ToSlash(file), Where: where})
	return nil
}
