package plan

import (
	"regexp"

	"fitcheck/core/digest"
)

// Proof is one thing that a capture must show once a step is done.
type Proof struct {
	// Member is the box of which it is shown; "" for the one that the step is taken on.
	Member string
	// Key of a device file and what it must be; for a version, Component tells how it is
	// compared. Next and Active stand for slots.
	Key, Want, Component string
	// Unsaved: of Next, that the choice is stored is asked for by a later step.
	Unsaved bool
	// Line is a text that a line of the capture holds.
	Line string
	// MustShow and MustNotShow are patterns of lines; NewOnly passes over lines that were
	// there before. Says is what they are about.
	MustShow, MustNotShow *regexp.Regexp
	NewOnly               bool
	Says                  string
	// File is the name of a file on the device, with its size or one of its digests.
	File string
	Size int64
	Sums []digest.Sum
	// Job: the device's own work must have ended well.
	Job bool
}

// Keys of proofs that stand for slots.
const (
	Next   = "next"   // the slot that starts after a restart
	Active = "active" // the slot that runs
)
