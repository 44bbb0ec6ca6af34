package format_test

import (
	"bytes"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// turnedLines is how many lines a sample gets.
const turnedLines = 100

// ends are how many bytes of a sample are turned, one by one, at its beginning and at its end.
func ends(size int) (head, tail int) {
	switch {
	case size > 256<<10:
		return 64, 8
	case size > 16<<10:
		return 256, 32
	}
	return 1 << 10, 1 << 7
}

// TestWhatEachByteHolds turns a bit of every byte of each sample, and cuts it before every byte, and holds what comes
// of it against the page testdata/turned.txt: which bytes a checksum covers, which change what is read, and which
// nothing is said of.
func TestWhatEachByteHolds(t *testing.T) {
	var b strings.Builder
	for _, s := range turnable() {
		fmt.Fprintf(&b, "## %s, %d bytes\n", s.name, len(s.data))
		sound := outline(t, s.data)
		var all pagetest.Sum
		outcomeOf := func(data []byte) string {
			now := outline(t, data)
			all.Add("%q", now)
			return outcome(sound, now)
		}
		grouped(&b, "turned", s.data, func(at int) string {
			other := bytes.Clone(s.data)
			other[at] ^= 0x04
			return outcomeOf(other)
		})
		grouped(&b, "cut at", s.data, func(at int) string { return outcomeOf(s.data[:at]) })
		for _, tail := range []struct {
			name string
			data []byte
		}{{"three zeros", make([]byte, 3)}, {"zeros", make([]byte, 5000)}, {"FF", bytes.Repeat([]byte{0xff}, 11)}, {"bytes", []byte("tram")}, {"itself", s.data}} {
			fmt.Fprintf(&b, "%s behind it: %s\n", tail.name, outcomeOf(append(bytes.Clone(s.data), tail.data...)))
		}
		fmt.Fprintf(&b, "in all %s\n\n", &all)
	}
	pagetest.Hold(t, filepath.Join("testdata", "turned.txt"), b.String())
}

// grouped tells what comes of each place, neighbours of which the same comes in one line.
func grouped(b *strings.Builder, what string, data []byte, try func(at int) string) {
	from, last := 0, ""
	head, tail := ends(len(data))
	begin := b.Len()
	end := func(to int) {
		if to > from {
			place := fmt.Sprintf("%d–%d", from, to-1)
			if from == to-1 {
				place = fmt.Sprint(from)
			}
			fmt.Fprintf(b, "%s %s: %s\n", what, place, last)
		}
		from = to
	}
	for at := range data {
		if at >= head && at < len(data)-tail {
			end(head)
			from = at + 1
			continue
		}
		said := try(at)
		if said == last {
			continue
		}
		end(at)
		if last = said; strings.Count(b.String()[begin:], "\n") >= turnedLines {
			fmt.Fprintf(b, "%s %d and so on\n", what, at)
			return
		}
	}
	end(len(data))
}

// outlined is what is read of an image and said of it, without the numbers.
type outlined struct {
	kind          string
	read, against []string
}

func outline(t *testing.T, data []byte) outlined {
	m := readSample(t, data)
	if m == nil {
		return outlined{kind: "no image"}
	}
	out := outlined{kind: m.Format}
	var b strings.Builder
	tell(&b, "", m)
	for _, c := range m.Covers(int64(len(data))) {
		fmt.Fprintf(&b, "proved by %s of %s: %v\n", c.By, c.Of, c.Stretch)
	}
	out.read = strings.Split(b.String(), "\n")
	for _, all := range [][]string{m.Damaged(), m.AllUnread(), m.AllNotes()} {
		for _, text := range all {
			if text = numbers.ReplaceAllString(text, "N"); !slices.Contains(out.against, text) {
				out.against = append(out.against, text)
			}
		}
	}
	return out
}

// outcome tells in what an image differs from the sound one: by its kind, by what is said against it, and by what is
// read of it.
func outcome(sound, now outlined) string {
	if now.kind != sound.kind {
		return strings.Join(append([]string{now.kind}, now.against...), "; ")
	}
	var parts []string
	for _, a := range now.against {
		if !slices.Contains(sound.against, a) {
			parts = append(parts, a)
		}
	}
	for _, a := range sound.against {
		if !slices.Contains(now.against, a) {
			parts = append(parts, "not said: "+a)
		}
	}
	if words := changed(sound.read, now.read, strings.NewReplacer()); len(words) > 0 {
		// That a checksum does not hold shows in every fact that it protects; it is said once.
		protected := strings.NewReplacer("protected true", "", "protected false", "", "OK true", "", "OK false", "")
		if words = changed(sound.read, now.read, protected); len(words) > 0 {
			parts = append(parts, "read otherwise: "+strings.Join(words[:min(4, len(words))], ", "))
		} else {
			parts = append(parts, "read alike, and not protected")
		}
	}
	if len(parts) == 0 {
		return "nothing"
	}
	return strings.Join(parts, "; ")
}

// changed names what is read otherwise.
func changed(before, now []string, but *strings.Replacer) []string {
	had := map[string]bool{}
	for _, line := range before {
		had[but.Replace(line)] = true
	}
	var words []string
	for _, line := range now {
		head := strings.Fields(line)
		if word := strings.Join(head[:min(2, len(head))], " "); !had[but.Replace(line)] && !slices.Contains(words, word) {
			words = append(words, word)
		}
	}
	return words
}

// numbers differ with the place, and stand for themselves elsewhere.
var numbers = regexp.MustCompile(`\b(?:0x)?[0-9a-f]*[0-9][0-9a-f]*\b|\b[0-9a-f]{8,}\b`)
