package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
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

// inventory writes a device file for each row of an inventory.
func (c *call) inventory(k *kit.Kit, source, into string, columns columnsFlag, replace bool) (int, error) {
	data, err := kit.ReadText(source)
	if err != nil {
		return 0, err
	}
	rows, err := device.ReadRows(filepath.ToSlash(source), data, columns)
	if err != nil {
		return 0, err
	}
	doc := present.Inventory{Source: source, Into: into}
	seen := map[string]bool{}
	for _, r := range rows {
		if r.Refused != "" {
			doc.Refused = append(doc.Refused, r.Refused)
			continue
		}
		name := strings.Trim(notInFileName.ReplaceAllString(r.Name, "-"), "-.")
		file := filepath.Join(into, name+".yaml")
		if name == "" || seen[strings.ToLower(name)] {
			doc.Refused = append(doc.Refused, fmt.Sprintf("%s: another row is called %s, too", r.Values[0].Where, r.Name))
			continue
		}
		seen[strings.ToLower(name)] = true
		draft := device.Merge([]*device.Reading{r.Reading}, nil, nil, k)
		if len(draft.Contradictions) > 0 {
			doc.Refused = append(doc.Refused, fmt.Sprintf("%s: %s: %s", r.Values[0].Where, draft.Contradictions[0].Label(), draft.Contradictions[0].Text()))
			continue
		}
		text, err := draft.Write(r.Name, nil)
		if err == nil {
			_, err = device.Read(filepath.ToSlash(file), text)
		}
		if err != nil {
			doc.Refused = append(doc.Refused, fmt.Sprintf("%s: it makes no device file: %v", r.Values[0].Where, err))
			continue
		}
		doc.Notes = append(doc.Notes, r.Notes...)
		have, err := os.ReadFile(file)
		switch {
		case err == nil && bytes.Equal(have, text):
			doc.Same++
		case err == nil && !replace:
			doc.Refused = append(doc.Refused, file+" is there already, and says something else; give -replace to write it anew")
			continue
		case err != nil && !errors.Is(err, os.ErrNotExist):
			return 0, err
		default:
			if err := os.MkdirAll(into, 0o755); err != nil {
				return 0, err
			}
			if err := writeNew(file, true, func(b *strings.Builder) error { b.Write(text); return nil }); err != nil {
				return 0, err
			}
			doc.Written++
		}
		doc.Devices = append(doc.Devices, present.InventoryDevice{Name: r.Name, File: filepath.ToSlash(file), Where: r.Values[0].Where})
	}
	status := exitFits
	if len(doc.Refused) > 0 {
		status = exitMisfit
	}
	return status, c.tell(present.InventoryJSON(doc), present.InventoryPage(doc))
}
