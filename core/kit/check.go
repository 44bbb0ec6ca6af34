package kit

import (
	"fmt"
	"os"
	"path/filepath"

	"fitcheck/core/device"
	"fitcheck/core/layout"
	"fitcheck/core/rulebook"
	"fitcheck/core/yamlfile"
)

// Read checks one file that people write, whichever it is: it tells its kind,
// what is wrong with it (the error), and what is hardly meant (the warnings).
func Read(path string) (kind string, warnings yamlfile.Errors, err error) {
	data, err := ReadText(path)
	if err != nil {
		return "", nil, err
	}
	var head struct {
		Kind yamlfile.Text `yaml:"kind"`
	}
	yamlfile.Peek(data, &head)
	switch head.Kind.Text {
	case "layout":
		_, err = layout.Read(path, data)
	case "device":
		_, err = device.Read(path, data)
	default:
		var rb *rulebook.Rulebook
		if rb, err = rulebook.Read(path, data); err == nil {
			warnings = append(rb.Warnings(), besides(path, rb)...)
			if faults := rb.Faults(); len(faults) > 0 {
				err = faults
			}
		}
	}
	if head.Kind.Text == "" {
		return "rulebook", warnings, err
	}
	return head.Kind.Text, warnings, err
}

// besides warns of layouts and keys that a rulebook names and that are not in
// the kit around it.
func besides(path string, rb *rulebook.Rulebook) yamlfile.Errors {
	var out yamlfile.Errors
	folder := filepath.Dir(filepath.Dir(path))
	if filepath.Base(filepath.Dir(path)) != "rulebooks" {
		return nil // it lies in no kit
	}
	look := func(t yamlfile.Text, dir string) {
		if !t.Set() {
			return
		}
		if _, err := os.Stat(filepath.Join(folder, dir, filepath.FromSlash(t.Text))); err != nil {
			out = append(out, &yamlfile.Error{File: rb.File, Spot: t.Spot, Message: fmt.Sprintf("%s/%s is not in the kit", dir, t.Text), Advice: "put it there"})
		}
	}
	for _, t := range rb.Layouts {
		look(t, "layouts")
	}
	for _, p := range rb.Packages {
		if p.Signature != nil {
			look(p.Signature.Key, "keys")
		}
	}
	return out
}
