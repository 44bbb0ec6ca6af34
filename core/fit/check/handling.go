package check

import (
	"fitcheck/core/survey"
)

var handlingCheck = Register(&Check{Name: "handling", Column: "serve", Order: 250, Doc: "Is the package in the state in which it must be served?"})

var (
	handlingUnpack   = handlingCheck.Code("to_unpack", Fits, "it must be unpacked before it is served, and can be", "it must be unpacked before it is served", "")
	handlingUnpacked = handlingCheck.Code("unpacked", Fits, "it is unpacked, as it must be served", "it is unpacked already, as it must be served", "")
	handlingWhole    = handlingCheck.Code("whole", Fits, "it is whole, as it must be served", "it is whole, as it must be served: do not unpack it", "")
	handlingOuter    = handlingCheck.Code("other_outer", Misfit, "the file as a whole is of another kind than the rulebook says", "it is a %s, and by the rulebook a download of this name is a %s", "take the file as the maker gives it out; what was packed again, or taken out of something, is another file")
	handlingNotWhole = handlingCheck.Code("not_whole", Misfit, "it must be served whole, and is unpacked", "it must be served whole, as downloaded, and this is an unpacked folder", "take the file that was downloaded")
)

func init() { handlingCheck.Runs(PerPackage(handling)) }

// handling: a download that must stay whole is not served from a folder.
func handling(s *survey.Survey) []Line {
	e := s.Entry
	if e == nil || s.Broken() {
		return nil
	}
	if l, bad := outer(s); bad {
		return []Line{l}
	}
	if !e.Handling.Set() {
		return nil
	}
	base := Line{Device: "served " + e.Handling.Text, Package: s.Name,
		Sources: []Cited{{OfRule, e.Handling.Text, s.Rulebook.Source(e.Handling.Spot)}, ofName(s.Name, s.Name)}}
	switch {
	case e.Handling.Text == "unpacked" && !s.Folder:
		return []Line{handlingUnpack.become(base)}
	case e.Handling.Text == "unpacked":
		return []Line{handlingUnpacked.become(base)}
	case !s.Folder:
		return []Line{handlingWhole.become(base)}
	}
	return []Line{handlingNotWhole.become(base)}
}

// outer: the file as a whole is what the rulebook says it is.
func outer(s *survey.Survey) (Line, bool) {
	want, root := s.Entry.Outer, s.Root()
	if !want.Set() || s.Folder || root == nil || root.Kind == want.Text {
		return Line{}, false
	}
	base := Line{Device: "a " + want.Text, Package: root.Kind, Sources: []Cited{{OfRule, want.Text, s.Rulebook.Source(want.Spot)}, ofName(root.Kind, s.Name)}}
	return handlingOuter.become(base, root.Kind, want.Text), true
}
