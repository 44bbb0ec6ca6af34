package draft

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/notes"
	"fitcheck/core/rulebook"
	"fitcheck/core/version"
)

// asDrafted is a draft of a line with releases 8.0.3 to 8.4.2, to whose notes of 8.4.2 a sentence
// is added: what it became, without guesses and sources.
func asDrafted(t *testing.T, sentence string) []string {
	t.Helper()
	d := &Draft{schemes: map[string]*version.Scheme{}, words: map[string]string{}}
	for _, v := range []string{"8.0.3", "8.2.1", "8.3.0", "8.4.2"} {
		d.Releases = append(d.Releases, &Release{Version: v, Brings: [][2]string{{"boot", "3.2.0"}, {"main", v}}})
	}
	d.Components = []*Component{{Name: "boot"}, {Name: "main"}, {Name: "poe"}}
	d.Models = []*Model{{Name: "KX-2", Revisions: []*Revision{{Name: "A1"}, {Name: "B1"}}}, {Name: "KX-8", Revisions: []*Revision{{Name: "C1"}}}}
	doc, err := notes.Read("notes.txt", []byte("Release notes 8.4.2\n\n"+sentence+"\n"), nil)
	require.NoError(t, err)
	in := Input{Notes: []Note{{"notes.txt", doc}}}
	d.versions(nil, in.Notes)
	d.moves(in)
	require.NotNil(t, d.rules(), d.YAML())
	var out []string
	keep := func(lines []Line) {
		for _, l := range lines {
			out = append(out, strings.TrimSuffix(strings.Replace(strings.TrimPrefix(l.Text, "- "), ", source: notes}", "}", 1), " "))
			if !strings.HasSuffix(l.Text, " source: notes") { // a key alone is no guess
				assert.Contains(t, l.Guess.From, "notes.txt:")
			}
		}
	}
	for _, rel := range d.Releases {
		keep(rel.Needs)
		for _, l := range rel.Lines {
			keep([]Line{{rel.Version + " " + l.Text, l.Guess}})
		}
		if rel.Date != "" {
			out = append(out, rel.Version+" date: "+rel.Date)
		}
	}
	keep(d.Moves.Rules)
	keep(d.Moves.Remedies)
	if d.Moves.Downward == "open" || d.Moves.DownGuess.From != "" {
		out = append(out, "downward: "+d.Moves.Downward)
	}
	return out
}

// What sentences of release notes become, and that those become nothing which say nothing of the
// kind.
func TestSentences(t *testing.T) {
	stop := `{from: "<8.2.1", to: ">=8.4.2", allow: false, via: "8.2.1"}`
	for sentence, want := range map[string][]string{
		"Devices on releases before 8.2.1 must be upgraded to 8.2.1 first.":                {stop},
		"Upgrades from releases older than 8.2.1 have to go through 8.2.1.":                {stop},
		"If the device runs a release below 8.2.1, install 8.2.1 first.":                   {stop},
		"From anything before 8.2.1 go by way of 8.2.1.":                                   {stop},
		"Release 8.2.1 must be installed first.":                                           {stop},
		"Devices running 8.0.3 cannot be upgraded directly to 8.4.2. Install 8.3.0 first.": {`{from: "8.0.3", to: ">=8.4.2", allow: false, via: "8.3.0"}`},
		"Upgrades from 8.0.3 through 8.2.1 go by way of 8.3.0.":                            {`{from: ">=8.0.3 <=8.2.1", to: ">=8.4.2", allow: false, via: "8.3.0"}`},
		"Upgrades from 8.0.3 – 8.2 go by way of 8.3.0.":                                    {`{from: ">=8.0.3 <8.3", to: ">=8.4.2", allow: false, via: "8.3.0"}`},
		"Releases 8.0.x cannot go straight to 8.4.2.":                                      {`{from: ">=8.0.0 <8.1.0", to: ">=8.4.2", allow: false}`},
		"Devices running 8.0 must be upgraded to 8.2.1 before 8.4.2 is installed.":         {`{from: ">=8.0 <8.1", to: ">=8.4.2", allow: false, via: "8.2.1"}`},
		"Requires release 8.2.1 or later.":                                                 {`{component: main, within: ">=8.2.1"}`},
		"Direct upgrades are supported from 8.2.1 or later.":                               {`{component: main, within: ">=8.2.1"}`},
		"Upgrades from releases before 8.2.1 are not supported.":                           {`{component: main, within: ">=8.2.1"}`},
		"The boot loader must be 3.2.0 or later.":                                          {`{component: boot, within: ">=3.2.0"}`},
		"Minimum boot loader: 3.2.0":                                                       {`{component: boot, within: ">=3.2.0"}`},
		"Boot loaders older than 3.2.0 must be updated.":                                   {`{component: boot, within: ">=3.2.0"}`},
		"On the KX-8, boot loader 3.2.0 or newer is required.":                             {`{component: boot, within: ">=3.2.0", models: [KX-8]}`},
		"This release includes boot loader 3.2.0.":                                         nil,
		"Boot loader 3.2.0 fixes a memory leak.":                                           nil,
		"The controller must run 5.1 or later.":                                            {`{companion: controller, within: ">=5.1"}`},
		"At least 64 MiB of free storage are needed.":                                      {`{storage_free: "64MiB"}`},
		"Needs 256 MB of memory.":                                                          {`{memory: "256MB"}`},
		"The upgrade resets the configuration.":                                            {"8.4.2 resets_config: true"},
		"Upgrading from releases before 8.2.1 erases all settings.":                        {`{from: "<8.2.1", to: ">=8.4.2", allow: true, resets_config: true}`},
		"No settings are lost.":                                                            nil,
		"The configuration is kept.":                                                       nil,
		"The settings are not preserved.":                                                  {"8.4.2 resets_config: true"},
		"Downgrading is not supported.":                                                    {"downward: closed"},
		"A downgrade to 8.2.1 or later is possible.":                                       {`{from: ">=8.4.2", to: ">=8.2.1 <8.4.2", allow: true}`},
		"Going back below 8.3.0 erases the configuration.":                                 {`{from: ">=8.3.0", to: "<8.3.0", allow: true, resets_config: true}`},
		"Release 8.3.0 was withdrawn: ports flap.":                                         {`8.3.0 withdrawn: "Release 8.3.0 was withdrawn: ports flap."`, "8.3.0 source: notes"},
		"The KX-2 is no longer supported.":                                                 {"8.4.2 models: [KX-8]"},
		"KX-2 boards of revision A1 are no longer supported.":                              {"8.4.2 revisions: [B1, C1]"},
		"KX-2 boards of revision D7 are no longer supported.":                              nil,
		"From 8.2.1 on, the KX-2 is no longer supported.":                                  {"8.4.2 models: [KX-8]"},
		"The KX-2 is no longer supported from 8.5.0.":                                      nil,
		"Support for the LR-7 was removed.":                                                {"8.4.2 drops: [LR-7]"},
		"Released 2026-09-30.":                                                             {"8.4.2 date: 2026-09-30"},
		"Published on 30 September 2026.":                                                  {"8.4.2 date: 2026-09-30"},
		"The installation takes about 12 minutes, of which 8 minutes are without service.": {"8.4.2 minutes: {install: 12, outage: 8}"},
		"The installation takes about 12 minutes.":                                         {"8.4.2 minutes: {install: 12}"},
		"The upgrade takes 10 to 12 minutes.":                                              {"8.4.2 minutes: {install: 10-12}"},
		"The upgrade takes 12 minutes; service is interrupted for 8 minutes.":              {"8.4.2 minutes: {install: 12, outage: 8}"},
		"Allow for an outage of 8 minutes.":                                                {"8.4.2 minutes: {outage: 8}"},
		"At least 64 MiB of free space in flash memory are needed.":                        {`{storage_free: "64MiB"}`},
		"Error 28: install 8.2.1 first":                                                    {`{shows: 'error 28\b', do: "install 8.2.1 first"}`},
		"After the upgrade, check that all ports deliver power.":                           {`8.4.2 checks_after: ["all ports deliver power"]`},
		"Fixed since 8.2.1: a memory leak.":                                                nil,
		"Thanks to all who tested 8.4.2.":                                                  nil,
	} {
		assert.Equal(t, want, asDrafted(t, sentence), sentence)
	}
}

// A pattern reads all versions of which it was made, orders them as they were given, and reads
// others of their kind.
func TestShapes(t *testing.T) {
	for _, c := range []struct {
		ascending []string
		also      string
		fails     bool
	}{
		{[]string{"8.0.3", "8.4.2", "8.4.2c", "8.10.0"}, "9.1.0a", false},
		{[]string{"R12.1-b611", "R12.4-b731", "R12.4-b1000", "R13.0-b2"}, "12.4", false},
		{[]string{"4.1.0 build 100", "4.1.0 build 1007"}, "4.2.0 build 1", false},
		{[]string{"2026.02.03", "2026.10.01"}, "2027.01.01", false},
		{[]string{"20260203", "20261001"}, "20270101", false},
		{[]string{"3.1(2)E4", "3.1(10)E2", "3.2(1)E9"}, "4.0(1)E1", false},
		{[]string{"3.1(2)E4", "3.1(2)S1"}, "3.1(2)E5", false},
		{[]string{"v1.2", "v1.10"}, "2.0", false},
		{[]string{"FW-7", "FW-12"}, "fw-100", false},
		{[]string{"3.1A2", "3.1B1"}, "3.2A1", false},
		{[]string{"1.2.0-rc1", "1.2.0"}, "", true},
		{[]string{"1b2-3", "1-3b2"}, "", true},
	} {
		v, ok := shape(c.ascending)
		require.Equal(t, !c.fails, ok, c.ascending)
		if c.fails {
			continue
		}
		s := v.scheme()
		require.NotNil(t, s, v.Pattern)
		for i := 1; i < len(c.ascending); i++ {
			a, err := s.Parse(c.ascending[i-1])
			require.NoError(t, err)
			b, err := s.Parse(c.ascending[i])
			require.NoError(t, err)
			assert.Negative(t, s.Compare(a, b), "%s before %s by %s", c.ascending[i-1], c.ascending[i], v.Pattern)
		}
		_, err := s.Parse(c.also)
		assert.NoError(t, err, v.Pattern)
	}
}

// Whatever notes, captures and tables hold, a draft is a rulebook that reads.
func FuzzDraft(f *testing.F) {
	f.Add("Release notes 8.4.2\n\nDevices before 8.2.1 go to 8.2.1 first.\n", "depot> show\nModel: KX-2\nBoard: rev A1\nRunning: 8.2.1\n1  8.2.1  *\n2  8.0.3\n", "from,to,via\n8.0.3,8.4.2,8.2.1\n")
	f.Add("8.4.2\n\nRelease 9.9 was withdrawn.\nError 7: \"x\" # no\n", "a> b\n: : :\n", "x")
	f.Fuzz(func(t *testing.T, text, capture, table string) {
		if len(text)+len(capture)+len(table) > 1<<14 {
			return
		}
		d := &Draft{schemes: map[string]*version.Scheme{}, words: map[string]string{}}
		for _, v := range []string{"8.0.3", "8.2.1", "8.4.2"} {
			d.Releases = append(d.Releases, &Release{Version: v})
		}
		d.Components = []*Component{{Name: "boot"}, {Name: "main"}}
		d.Models = []*Model{{Name: "KX-2", Revisions: []*Revision{{Name: "A1"}, {Name: "B1"}}}, {Name: "KX-8"}}
		in := Input{Captures: []Text{{"capture.txt", []byte(capture)}}}
		if doc, err := notes.Read("notes.txt", []byte(text), nil); err == nil {
			in.Notes = []Note{{"notes.txt", doc}}
		}
		if table != "" {
			in.Tables = []Text{{"table.csv", []byte(table)}}
		}
		d.versions(nil, in.Notes)
		d.moves(in)
		d.captures(in.Captures)
		if d.rules() == nil {
			_, err := rulebookOf(d)
			t.Fatalf("%v\n%s", err, d.YAML())
		}
	})
}

func rulebookOf(d *Draft) (*rulebook.Rulebook, error) {
	return rulebook.Read("draft.yaml", []byte(d.YAML()))
}
