package check

import (
	"fmt"
	"path"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	y "fitcheck/core/yamlfile"
)

var transferCheck = Register(&Check{Name: "transfer", Column: "serve", Order: 240, Doc: "Do names and sizes keep to what the device's transfer carries?"})

var (
	transferKeeps   = transferCheck.Code("carried", Fits, "names and sizes keep to the rulebook's transfer", "names and sizes keep to what the transfer carries", "")
	transferLarge   = transferCheck.Code("too_large", Misfit, "a file is too large", "%s is %s; the transfer carries at most %s (%s)", "use another way of transfer that the device offers, and describe it under transfer: in the rulebook")
	transferLong    = transferCheck.Code("name_too_long", Misfit, "a name is too long", "the name %s has %d characters, and the device takes at most %d", "ask the maker whether the file may be renamed")
	transferStrange = transferCheck.Code("name_not_carried", Misfit, "a name holds characters that cannot be transferred", "the name %q holds characters that cannot be transferred", "ask the maker whether the file may be renamed")
)

// served is a file that the device will fetch.
type served struct {
	name string
	size int64
	item *survey.Item
}

// serves lists what a server would offer for this device: the chosen images, or the
// whole package where it must stay so.
func (c *Case) serves() []served {
	var out []served
	seen := map[string]bool{}
	for _, k := range c.Components() {
		cand := c.Chosen[k.Name]
		if cand == nil {
			continue
		}
		it := cand.Item
		if of := c.Survey.PartOf(it.Address); servedWhole(of) {
			if root := of.Root(); root != nil {
				it = root
			}
		}
		if !seen[it.Address] {
			seen[it.Address] = true
			out = append(out, served{path.Base(it.Name), it.Size, it})
		}
	}
	return out
}

// servedWhole tells whether a package is served as the one file that was downloaded.
func servedWhole(s *survey.Survey) bool {
	return s.Entry != nil && s.Entry.Handling.Text == "whole" && !s.Folder
}

func init() { transferCheck.Runs(PerInstall((*Case).transfer)) }

// transfer: what will be fetched keeps to the rules of the transfer.
func (c *Case) transfer() []Line {
	files := c.serves()
	if len(files) == 0 || c.Rules == nil || c.Rules.Transfer == nil {
		return nil
	}
	t := c.Rules.Transfer
	largest, bound := t.Carries()
	var names []string
	base := Line{Device: bound, Sources: []Cited{c.ofRule("transfer, "+bound, t.Spot)}}
	for _, f := range files {
		names = append(names, f.name)
		base.Cite(Cited{OfPackage, fmt.Sprintf("%s, %s", f.name, y.FormatSize(f.size)), fact.Source{Kind: fact.Content, File: f.item.Address, Size: f.size}})
	}
	base.Package = strings.Join(names, ", ")
	for _, f := range files {
		switch t.Obstacle(f.name, f.size) {
		case rulebook.TooLarge:
			return []Line{transferLarge.become(base, f.name, y.FormatSize(f.size), y.FormatSize(largest), bound)}
		case rulebook.StrangeName:
			return []Line{transferStrange.become(base, f.name)}
		case rulebook.NameTooLong:
			return []Line{transferLong.become(base, f.name, len(f.name), t.LongestName)}
		}
	}
	return []Line{transferKeeps.become(base)}
}
