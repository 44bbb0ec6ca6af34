package fit

import (
	"fmt"
	"path"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/survey"
	y "fitcheck/core/yamlfile"
)

// blockBound is the largest file that TFTP carries without negotiating a
// block size (RFC 1350): 65535 blocks, the last of which is not full.
const blockBound = 65535*512 - 1

// served is a file that the device will fetch.
type served struct {
	name string
	size int64
	item *survey.Item
}

// serves lists what a server would offer for this device: the chosen images,
// or the whole package where it must stay so.
func (j *judge) serves() []served {
	var out []served
	seen := map[string]bool{}
	for _, c := range j.components() {
		cand := j.chosen[c.name]
		if cand == nil {
			continue
		}
		it := cand.item
		if of := j.s.PartOf(it.Address); of.Entry != nil && of.Entry.Handling.Text == "whole" && !of.Folder {
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

// carried: what will be fetched keeps to the rules of the transfer, and there
// is room for it.
func (j *judge) carried() []Check {
	files := j.serves()
	if len(files) == 0 {
		return nil
	}
	return append(j.transfer(files), j.room(files)...)
}

func (j *judge) transfer(files []served) []Check {
	if j.rb == nil || j.rb.Transfer == nil {
		return nil
	}
	t := j.rb.Transfer
	largest, bound := t.Largest.Bytes, fmt.Sprintf("largest: %s", y.FormatSize(t.Largest.Bytes))
	if tftp := strings.EqualFold(t.Protocol.Text, "tftp"); tftp && t.Blocksize != nil && !*t.Blocksize && (largest == 0 || largest > blockBound) {
		largest, bound = blockBound, "TFTP without block-size negotiation"
	}
	var names []string
	rule := Cited{OfRule, "transfer", j.rb.Source(t.Spot)}
	ch := Check{Check: "transfer", Outcome: Fits, Device: bound, Sources: []Cited{rule}}
	for _, f := range files {
		names = append(names, f.name)
		ch.Sources = append(ch.Sources, Cited{OfPackage, fmt.Sprintf("%s, %s", f.name, y.FormatSize(f.size)), fact.Source{Kind: fact.Content, File: f.item.Address, Size: f.size}})
		switch {
		case largest > 0 && f.size > largest:
			ch.Outcome = Misfit
			ch.Because = fmt.Sprintf("%s has %s, and the transfer carries at most %s (%s)", f.name, y.FormatSize(f.size), y.FormatSize(largest), bound)
			ch.Advice = "use another way of transfer that the device offers, and describe it under transfer: in the rulebook"
		case t.LongestName > 0 && len(f.name) > t.LongestName:
			ch.Outcome = Misfit
			ch.Because = fmt.Sprintf("the name %s has %d characters, and the device takes at most %d", f.name, len(f.name), t.LongestName)
			ch.Advice = "ask the maker whether the file may be renamed"
		case !plainName(f.name):
			ch.Outcome = Misfit
			ch.Because = fmt.Sprintf("the name %q holds characters that cannot be transferred", f.name)
			ch.Advice = "ask the maker whether the file may be renamed"
		}
	}
	ch.Package = strings.Join(names, ", ")
	if ch.Outcome == Fits {
		ch.Because = "names and sizes keep to what the transfer carries"
	}
	return []Check{ch}
}

// plainName: printable ASCII without blanks goes over every protocol.
func plainName(name string) bool {
	for _, r := range name {
		if r <= ' ' || r > '~' {
			return false
		}
	}
	return name != ""
}

// room holds what will lie on the device at the same time against its free
// storage. An image that goes into a slot of its own needs none.
func (j *judge) room(files []served) []Check {
	free := j.d.StorageFree
	if _, guessed := j.d.Guessed("storage_free"); guessed || !free.Set() {
		return nil // where the release needs some, its need speaks of it
	}
	ch := Check{Check: "room", Device: y.FormatSize(free.Bytes) + " free"}
	ch.Sources = []Cited{{OfDevice, ch.Device, j.d.Source("storage_free", free.Spot)}}
	total := int64(0)
	for _, f := range files {
		if j.slotted(f.item) {
			continue
		}
		total += f.size
		ch.Sources = append(ch.Sources, Cited{OfPackage, fmt.Sprintf("%s, %s", f.name, y.FormatSize(f.size)), fact.Source{Kind: fact.Content, File: f.item.Address, Size: f.size}})
	}
	if total == 0 {
		return nil
	}
	ch.Package = y.FormatSize(total) + " to store"
	if total > free.Bytes {
		ch.Outcome = Misfit
		ch.Because = fmt.Sprintf("the files have %s, and %s is free", y.FormatSize(total), y.FormatSize(free.Bytes))
		ch.Advice = "free some space on the device"
	} else {
		ch.Outcome, ch.Because = Fits, "there is enough free storage for the files"
	}
	return []Check{ch}
}

// slotted tells whether an item is the image of a component with slots.
func (j *judge) slotted(it *survey.Item) bool {
	for _, c := range j.components() {
		if cand := j.chosen[c.name]; cand != nil && cand.item == it && cand.slot != "" {
			return true
		}
	}
	return false
}
