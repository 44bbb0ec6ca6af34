package image

import (
	"slices"

	"fitcheck/core/fact"
)

// Moved is what the image is under another address: a copy whose sources are renamed. It shares
// with the first what no address stands in.
func (m *Image) Moved(rename func(address string) string) *Image {
	if m == nil {
		return nil
	}
	out := *m
	out.Facts = movedFacts(m.Facts, rename)
	out.Configs = slices.Clone(m.Configs)
	for i := range out.Configs {
		out.Configs[i].Facts = movedFacts(m.Configs[i].Facts, rename)
	}
	out.Signatures = slices.Clone(m.Signatures)
	for i := range out.Signatures {
		out.Signatures[i].Source.File = rename(m.Signatures[i].Source.File)
	}
	out.Sums, out.Uncovered = slices.Clone(m.Sums), slices.Clone(m.Uncovered)
	out.Problems, out.Unread, out.Notes = slices.Clone(m.Problems), slices.Clone(m.Unread), slices.Clone(m.Notes)
	out.Parts = slices.Clone(m.Parts)
	for i := range out.Parts {
		out.Parts[i].Image = m.Parts[i].Image.Moved(rename)
	}
	out.Contents = m.Contents.Moved(rename)
	return &out
}

// Moved is what the contents are under another address.
func (c *Contents) Moved(rename func(address string) string) *Contents {
	if c == nil {
		return nil
	}
	return &Contents{Files: c.Files, Folders: c.Folders, Links: c.Links, Devices: c.Devices, SetID: c.SetID, Bytes: c.Bytes, Depth: c.Depth,
		Facts: movedFacts(c.Facts, rename), Partial: c.Partial, List: c.List, address: rename(c.address), formats: c.formats, releases: c.releases, programs: c.programs}
}

func movedFacts(all []fact.Fact, rename func(string) string) []fact.Fact {
	out := slices.Clone(all)
	for i := range out {
		out[i].Source.File = rename(out[i].Source.File)
	}
	return out
}
