package follow

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"
)

// Line is one line of the record of a night.
type Line struct {
	Time   time.Time `json:"time"`
	Event  string    `json:"event"` // begun, taken_up, step, answered, left, ended
	By     string    `json:"by,omitempty"`
	Host   string    `json:"host,omitempty"`
	Device string    `json:"device"`
	From   string    `json:"from,omitempty"`
	To     string    `json:"to,omitempty"`
	Plan   string    `json:"plan"` // a digest of the steps

	Step    int      `json:"step,omitempty"`
	Name    string   `json:"name,omitempty"`
	Text    string   `json:"text,omitempty"`
	Outcome string   `json:"outcome,omitempty"` // go_on, wait, again, stop, unknown
	ByWord  bool     `json:"by_word,omitempty"` // somebody said so, and no capture showed it
	Reason  string   `json:"reason,omitempty"`
	Remedy  string   `json:"remedy,omitempty"`
	Percent *int     `json:"percent,omitempty"`
	Try     int      `json:"try,omitempty"`
	Seen    []Source `json:"captures,omitempty"`

	Program string `json:"program,omitempty"` // version of fitcheck
}

// Source is a capture that was given.
type Source struct {
	File   string `json:"file"` // "pasted" where it was none
	SHA256 string `json:"sha256"`
	Bytes  int    `json:"bytes"`
}

// Events of a record.
const (
	Begun    = "begun"
	TakenUp  = "taken_up"
	Shown    = "step"
	Answered = "answered"
	Left     = "left"
	Ended    = "ended"
)

// Record is a file of lines, to which is only added.
type Record struct{ f *os.File }

// maxRecord bounds the lines that are read of a record.
const maxRecord = 16 << 20

// OpenRecord opens a record, and reads where its plan was left: the step that comes next, and
// how often it failed. number is 0 where it has nothing of this plan. A record of the same
// device and goal whose steps are others is an error.
func OpenRecord(file string, f *Follower) (r *Record, number, tries int, err error) {
	w, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o644)
	if err != nil {
		return nil, 0, 0, err
	}
	number, tries, err = left(w, f)
	if err != nil {
		w.Close()
		return nil, 0, 0, fmt.Errorf("%s: %w", file, err)
	}
	return &Record{w}, number, tries, nil
}

// left reads the lines.
//
// In one piece: the record is read, mended at its end, and replayed in one go.
func left(w *os.File, f *Follower) (number, tries int, err error) {
	info, err := w.Stat()
	switch {
	case err != nil:
		return 0, 0, err
	case info.Size() > maxRecord:
		return 0, 0, fmt.Errorf("the record has more than %d bytes; begin another one", maxRecord)
	}
	data := make([]byte, info.Size())
	if _, err := w.ReadAt(data, 0); err != nil {
		return 0, 0, err
	}
	if n := len(data); n > 0 && data[n-1] != '\n' { // the end of a line that a crash cut off
		if _, err := w.WriteString("\n"); err != nil {
			return 0, 0, err
		}
	}
	plan, other := f.Plan(), ""
	s := bufio.NewScanner(bytes.NewReader(data))
	s.Buffer(nil, maxRecord)
	for s.Scan() {
		var l Line
		if json.Unmarshal(s.Bytes(), &l) != nil || l.Plan == "" {
			continue // cut off, or somebody else's
		}
		switch {
		case l.Device != f.Book.Device:
			continue
		case l.Plan != plan:
			other = l.Plan
			if l.Event == Ended {
				other = ""
			}
			continue
		}
		switch {
		case l.Event == Begun:
			number, tries, other = 1, 0, ""
		case l.Event == Ended:
			number, tries = 0, 0
		case l.Event == Answered && l.Outcome == GoOn:
			number, tries = max(number, l.Step+1), 0
		case l.Event == Answered && (l.Outcome == Again || l.Outcome == Stop) && l.Try > 0 && l.Step >= number:
			tries = l.Try
		}
	}
	if other != "" && number == 0 {
		return 0, 0, errors.New("it was begun for this device with other steps: the device file, the rulebook or the packages have changed since, or it was asked for otherwise; put them back to go on by it, or name another record")
	}
	return number, tries, s.Err()
}

// Add writes a line, and sees that it is on the disk before anything else is done.
func (r *Record) Add(l Line) error {
	b, err := json.Marshal(l)
	if err != nil {
		return err
	}
	if _, err := r.f.Write(append(b, '\n')); err != nil {
		return err
	}
	return r.f.Sync()
}

// Close closes it.
func (r *Record) Close() error { return r.f.Close() }
