package survey

import (
	"slices"
	"strings"

	"fitcheck/core/archive"
)

// Packed is what an item packs that is no image itself: the one thing that a stream or an archive holds, and what that
// holds where it is a stream or an archive again, as far as each holds one thing. It is nil where that is no image.
func (s *Survey) Packed(it *Item) *Item {
	part := s.PartOf(it.Address)
	for at, o := range part.Items {
		if o == it {
			return part.packedAt(at)
		}
	}
	return nil
}

// maxFirmwareIn bounds how many images of one archive are looked at together.
const maxFirmwareIn = 1000

// FirmwareIn are the firmware images that lie in an item, however deep, but not within another; alone tells that nothing
// else lies there but texts, so that all that it brings is known by them.
func (s *Survey) FirmwareIn(it *Item) (out []*Item, alone bool) {
	alone = true
	for _, in := range s.PartOf(it.Address).Items {
		switch {
		case !strings.HasPrefix(in.Address, it.Address+"::") || in.Within:
		case in.Firmware() && len(out) < maxFirmwareIn:
			out = append(out, in)
		case in.Firmware(), in.Container == archive.None && !slices.Contains(texts, in.Kind):
			alone = false
		}
	}
	return out, alone
}

// texts are kinds of items that are beside images, and none themselves.
var texts = []string{"text", "json", "xml", "yaml", "html", "pdf", "pem", "signature", "empty"}

// packedAt is that of the item at a place.
func (s *Survey) packedAt(at int) *Item {
	in := at
	for s.Items[in].Container != archive.None && !s.Items[in].Firmware() {
		one := s.oneBelow(in)
		if one < 0 {
			break
		}
		in = one
	}
	if in == at || s.Items[in].Image == nil {
		return nil
	}
	return s.Items[in]
}

// oneBelow is the place of the one item that lies directly in the item at a place; -1 for none or several. What an item
// holds stands behind it.
func (s *Survey) oneBelow(at int) int {
	one := -1
	for i, in := range s.Items[at+1:] {
		rest, ok := strings.CutPrefix(in.Address, s.Items[at].Address+"::")
		switch {
		case !ok:
			return one
		case strings.Contains(rest, "::"):
		case one >= 0:
			return -1
		default:
			one = at + 1 + i
		}
	}
	return one
}
