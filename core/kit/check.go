package kit

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"

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
		Kind yamlfile.String `yaml:"kind"`
	}
	if m := kindLine.FindSubmatch(data); m != nil { // parsing a long file twice takes time
		head.Kind.Text = string(m[1])
	} else {
		yamlfile.Peek(data, &head)
	}
	switch head.Kind.Text {
	case "layout":
		_, err = layout.Read(path, data)
	case "device":
		_, err = device.Read(path, data)
	default:
		var rb *rulebook.Rulebook
		if rb, err = rulebook.Read(path, data); err == nil {
			warnings = append(rb.Warnings(), besides(path, rb)...)
			warnings = append(warnings, tried(path, rb)...)
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

// kindLine says what a file is, as it is mostly written.
var kindLine = regexp.MustCompile(`(?m)^kind:[ \t]*["']?([a-z]+)["']?[ \t\r]*(?:#.*)?$`)

// besides warns of layouts and keys that a rulebook names and that are not in
// the kit around it.
func besides(path string, rb *rulebook.Rulebook) yamlfile.Errors {
	var out yamlfile.Errors
	folder := filepath.Dir(filepath.Dir(path))
	if filepath.Base(filepath.Dir(path)) != "rulebooks" {
		return nil // it lies in no kit
	}
	look := func(t yamlfile.String, dir string) {
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
	return append(out, unknownCertified(folder, rb)...)
}

// unknownCertified warns of models that a certified set names and that no rulebook of the
// kit knows: nothing would ever be held against them.
func unknownCertified(folder string, rb *rulebook.Rulebook) yamlfile.Errors {
	if len(rb.Certified) == 0 {
		return nil
	}
	k, _ := Open(folder) // a fault elsewhere in the kit is told where it is checked
	var out yamlfile.Errors
	for i := range rb.Certified {
		for _, v := range rb.Certified[i].Versions {
			_, known := rb.FindModel(v.Model.Text)
			if k != nil && !known {
				other, err := k.RulebookFor(v.Model.Text)
				known = err != nil || other != nil
			}
			if !known {
				out = append(out, &yamlfile.Error{File: rb.File, Spot: v.Model.Spot, Message: fmt.Sprintf("no rulebook of the kit knows the model %s, which the certified set %s names", v.Model.Text, rb.Certified[i].Name.Text), Advice: "correct its spelling, or write a rulebook for it"})
			}
		}
	}
	return out
}
