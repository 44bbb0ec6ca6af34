package kit

import (
	"fitcheck/core/device"
	"fitcheck/core/layout"
	"fitcheck/core/rulebook"
	"fitcheck/core/yamlfile"
)

// Kinds lists the kinds of file that people write.
func Kinds() []string { return []string{"device", "rulebook", "layout"} }

// Schema is the JSON Schema of a kind of file, made from its Go types; nil when
// there is no such kind.
func Schema(kind string) map[string]any {
	switch kind {
	case "device":
		s := yamlfile.Schema(device.Device{}, "Fit Check device file")
		s["required"] = []string{"kind", "name"}
		return s
	case "rulebook":
		s := yamlfile.Schema(rulebook.Rulebook{}, "Fit Check rulebook")
		s["required"] = []string{"kind"}
		return s
	case "layout":
		s := yamlfile.Schema(layout.Layout{}, "Fit Check layout of a binary header")
		s["required"] = []string{"kind", "name", "magic", "fields"}
		return s
	}
	return nil
}
