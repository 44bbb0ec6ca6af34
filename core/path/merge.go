package path

import (
	"slices"
	"strings"

	"fitcheck/core/device"
)

// merge makes one plan of those of members that are of different image families, such
// as a chassis and its cards: hop by hop over all members, those that go to one release
// one after the other.
func (r *Result) merge(d *device.Device, goal Goal) {
	if len(r.Plans) < 2 {
		return
	}
	first := r.Plans[0]
	different := slices.ContainsFunc(r.Plans, func(a *Answer) bool {
		return a.Family != "" && first.Family != "" && !strings.EqualFold(a.Family, first.Family)
	})
	if !different {
		return
	}
	one := &Answer{Name: d.Name.Text, Family: first.Family, Found: true, Back: &Back{Found: true, By: "slot"}}
	var from, to []string
	for _, a := range r.Plans {
		from, to = with(from, a.From), with(to, a.To)
	}
	one.From, one.To = strings.Join(from, " and "), strings.Join(to, " and ")
	if len(to) > 1 {
		one.asked = goal.Version
	}
	r.Notes = []string{"its members are of different image families: one plan, hop by hop over all of them"}
	left := make([][]Hop, len(r.Plans))
	maybe := false
	for i, a := range r.Plans {
		one.join(a)
		left[i] = slices.Clone(a.Hops)
		if !a.Found && len(a.Maybe) > 0 {
			left[i], maybe = slices.Clone(a.Maybe), true
		}
	}
	hops := r.together(left, len(from) > 1)
	switch {
	case one.Found:
		one.Hops = hops
	case maybe && len(one.Blocked) == 0:
		one.Maybe = hops
	}
	if !one.Found || len(hops) == 0 {
		one.Back = nil
	}
	if one.Found {
		one.Unsettled, one.Blocked = nil, nil
	}
	r.Plans = []*Answer{one}
}

// join takes over what a member's plan says, with the member's name.
func (one *Answer) join(a *Answer) {
	one.Members = append(one.Members, a.Members...)
	one.Found = one.Found && a.Found
	one.States += a.States
	name := strings.Join(a.Members, ", ") + ": "
	for _, u := range a.Unsettled {
		one.Unsettled = append(one.Unsettled, name+u)
	}
	for _, b := range a.Blocked {
		b.Because = name + b.Because
		one.Blocked = append(one.Blocked, b)
	}
	for _, n := range a.Notes {
		one.Notes = append(one.Notes, name+n)
	}
	if a.Capped != nil && one.Capped == nil {
		one.Capped = &Capped{a.Capped.Release, name + a.Capped.Because}
	}
	one.Back.join(a, name)
}

// together puts the hops of all plans in one row, those to one release beside each other. differ: the members begin at
// different releases.
func (r *Result) together(left [][]Hop, differ bool) []Hop {
	var hops []Hop
	for {
		at := slices.IndexFunc(left, func(l []Hop) bool { return len(l) > 0 })
		if at < 0 {
			break
		}
		release, boot := left[at][0].Release, left[at][0].BootOnly
		for i := range left {
			if len(left[i]) == 0 || left[i][0].Release != release || left[i][0].BootOnly != boot {
				continue
			}
			h := left[i][0]
			h.Members = slices.Clone(r.Plans[i].Members)
			if differ {
				h.Begin = r.Plans[i].From
			}
			for k := range h.Components {
				if h.Components[k].Member == "" && len(h.Members) == 1 {
					h.Components[k].Member = h.Members[0]
				}
			}
			hops = append(hops, h)
			left[i] = left[i][1:]
		}
	}
	return hops
}

// join adds the way back of one member to that of all.
func (b *Back) join(a *Answer, name string) {
	if a.Back == nil {
		return
	}
	b.Found = b.Found && a.Back.Found
	if a.Back.By != "slot" {
		b.By = a.Back.By
	}
	if b.Because != "" {
		b.Because += "; "
	}
	b.Because += name + a.Back.Because
	for _, s := range a.Back.Sources {
		b.Sources = with(b.Sources, s)
	}
	for _, n := range a.Back.Notes {
		b.Notes = with(b.Notes, name+n)
	}
	for _, h := range a.Back.Hops {
		h.Members = slices.Clone(a.Members)
		b.Hops = append(b.Hops, h)
	}
}

// with adds what is not there yet.
func with[T comparable](all []T, one T) []T {
	if slices.Contains(all, one) {
		return all
	}
	return append(all, one)
}
