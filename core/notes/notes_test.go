package notes

import (
	"archive/zip"
	"bytes"
	"compress/zlib"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/rulebook"
)

const rules = `kind: rulebook
title: t
maker: m
sources: {RN: "Release notes"}
models: {Q-1: {also: [Q1], families: [f]}, Q-2: {families: [g]}}
families:
  f: {components: {boot: {title: boot loader}, main: {}}}
  g: {components: {main: {}}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)$', order: [a, b, c]}}
packages: [{file: '^x$', notes: ['**/leaflet']}]
releases:
  - version: 8.4.2
    families: [f]
    needs:
      - {component: boot, within: ">=3.2.0"}
      - {companion: controller, within: ">=5.1"}
      - {memory: 256MiB}
    drops: [VR-210]
  - {version: 8.2.1, families: [f]}
hops:
  upward: open
  rules:
    - {from: "<8.2.1", to: ">=8.4.0", allow: false}
    - {from: ">=8.4.0", to: "<8.4.0", allow: true, resets_config: true}
`

func book(t testing.TB) *rulebook.Rulebook {
	rb, err := rulebook.Read("r.yaml", []byte(rules))
	require.NoError(t, err)
	return rb
}

func find(t testing.TB, name, text, about string) []Statement {
	d, err := Read(name, []byte(text), PDF)
	require.NoError(t, err)
	rb := book(t)
	all := Find(name, d, rb, about)
	Compare(all, rb, rb.FindRelease("8.4.2", "f", "", ""))
	return all
}

func TestStatements(t *testing.T) {
	for text, want := range map[string]struct {
		kind  Kind
		rule  string // "" for none
		other bool   // the rulebook says otherwise
		add   string
	}{
		"The boot loader must be 3.2.0 or later.":                    {kind: Minimum, rule: "needs boot >=3.2.0"},
		"Bootloader 3.3.0 or newer is required.":                     {kind: Minimum, rule: "needs boot >=3.2.0", other: true},
		"Requires controller 5.1 or later.":                          {kind: Minimum, rule: "needs controller >=5.1"},
		"Requires radiod 2.7 or later.":                              {kind: Minimum, add: `- {companion: radiod, within: ">=2.7"}`},
		"The boot loader must be 13.2.0 or later.":                   {kind: Minimum, rule: "needs boot >=3.2.0", other: true},
		"Save the settings before you install it.":                   {kind: Save},
		"Back up the configuration first.":                           {kind: Save},
		"Do not unpack the file: the device takes it as downloaded.": {kind: Handling, add: "handling: whole"},
		"Unpack the archive before it is served.":                    {kind: Handling, add: "handling: unpacked"},
		"If error 28 is shown, install 8.2.1 first.":                 {kind: Remedy, add: "-"},
		"At least 256 MiB of memory are needed.":                     {kind: Minimum, rule: "needs 256 MiB of memory"},
		"You need at least 64 MB of free flash.":                     {kind: Minimum, add: "- {storage_free: 64MB}"},
		"Devices below 8.2.1 cannot go directly to this release.":    {kind: Order, rule: "a rule on moves from <8.2.1 to >=8.4.0"},
		"Going directly from 7.0.1 is not possible.":                 {kind: Order, add: "-"},
		"Settings are lost on a way back below 8.4.0.":               {kind: Loss, rule: "moves from >=8.4.0 to <8.4.0 reset the configuration"},
		"The VR-210 is no longer supported.":                         {kind: Dropped, rule: "drops VR-210"},
		"Support for the VR-220 was removed.":                        {kind: Dropped, add: "-"},
		"The Q-2 is not supported.":                                  {kind: Dropped, rule: "release 8.4.2 is not for Q-2"},
		"Make sure that the settings are saved before you install.":  {kind: Prerequisite},
		"This release supports the Q1.":                              {kind: Supported},
		"A known issue: ports may flap.":                             {kind: Fault},
		"You cannot roll back once it runs.":                         {kind: Back},
		"Downgrading is not supported.":                              {kind: Back},
		"Upgrading from 7.0.1 is not supported.":                     {kind: Order, add: "-"},
		"The lamp is green.":                                         {},
		"We wish you a pleasant journey, and thank all who helped.":  {},
		"Lamps were fixed.":                                          {},
		"An install needs about ten minutes; do not switch it off.":  {kind: Prerequisite},
		"The configuration is not retained when you come from 7.0.0": {kind: Loss, add: "-"},
	} {
		all := find(t, "n.txt", "Release 8.4.2\n=============\n\n"+text+"\n", "")
		if want.kind == "" {
			assert.Empty(t, all, text)
			continue
		}
		if !assert.Len(t, all, 1, text) {
			continue
		}
		s := all[0]
		assert.Equal(t, want.kind, s.Kind, text)
		assert.Equal(t, 4, s.Line, text)
		assert.Equal(t, text, s.Text)
		assert.Equal(t, want.add != "", s.Unsaid, text)
		if strings.HasPrefix(want.add, "- ") {
			assert.Equal(t, want.add, s.Add)
		}
		if want.rule == "" {
			assert.Nil(t, s.Rule, text)
		} else if assert.NotNil(t, s.Rule, text) {
			assert.Equal(t, want.rule, s.Rule.Text, text)
			assert.Equal(t, !want.other, s.Rule.Same, text)
			assert.Positive(t, s.Rule.Source.Line)
		}
	}
}

// What stands under a heading of prerequisites is one, but for what says that there is none.
func TestPrerequisitesByTheirHeading(t *testing.T) {
	var got []string
	for _, s := range find(t, "n.txt", "Release 8.4.2\n=============\n\nNone\n\nRequirements\n------------\n\n- None\n- 32 MB\n- The old loader\n\nFixed\n-----\n\n- Lamps\n", "") {
		got = append(got, string(s.Kind)+": "+s.Text+" ("+s.Section+")")
	}
	assert.Equal(t, []string{"prerequisite: 32 MB (Requirements)", "prerequisite: The old loader (Requirements)"}, got)
}

// One text in each form says the same, at its own lines.
func TestForms(t *testing.T) {
	plain := "NOTES FOR 8.4.2\n\nBefore you install\n------------------\n* The boot loader\n  must be 3.2.0 or later. Have a\n  console at hand.\n\nKnown issues\n\n1. Ports may flap (Q-1, e.g. A2 boards).\n\nFixed\n\n- Lamps of the Q1 are green again.\n"
	markdown := "# Notes for **8.4.2**\n\n## Before you install\n\n- The boot loader\n  must be `3.2.0` or later. Have a console at hand.\n\n## Known issues\n\n| case | what |\n|---|---|\n| 12 | Ports may flap |\n\n## Fixed\n- Lamps of the Q1 are green again.\n"
	page := "<!DOCTYPE html><html><head><title>x</title><script>var must = '9.9.9 or later'</script></head>\n<body><h1>Notes for 8.4.2</h1>\n<h2>Before you install</h2>\n<ul><li>The boot loader\nmust be 3.2.0 or&#32;later.</li></ul>\n<h2>Known issues</h2><p>Ports may flap</p>\n<h2>Fixed</h2><p>Lamps of the Q1 are <b>green</b> again.</p></body></html>"
	wide := func(s string) string {
		out := []byte{0xff, 0xfe}
		for _, u := range utf16.Encode([]rune(s)) {
			out = append(out, byte(u), byte(u>>8))
		}
		return string(out)
	}
	for name, c := range map[string]struct {
		file, text string
		form       string
		minimum    int
	}{
		"text":         {"n.txt", plain, "text", 5},
		"with returns": {"n.txt", strings.ReplaceAll(plain, "\n", "\r\n"), "text", 5},
		"utf-16":       {"n.txt", wide(plain), "text", 5},
		"markdown":     {"N.MD", markdown, "markdown", 5},
		"html":         {"n.htm", page, "html", 4},
	} {
		d, err := Read(c.file, []byte(c.text), PDF)
		require.NoError(t, err, name)
		assert.Equal(t, c.form, d.Form, name)
		rb := book(t)
		rel := Release(rb, c.file, d)
		require.NotNil(t, rel, name)
		assert.Equal(t, "8.4.2", rel.Version.Text, name)
		assert.Same(t, rb, Best([]*rulebook.Rulebook{rb}, d))
		kinds := map[Kind]Statement{}
		for _, s := range Find(c.file, d, rb, "green") {
			kinds[s.Kind] = s
		}
		assert.Equal(t, "The boot loader must be 3.2.0 or later.", kinds[Minimum].Text, name)
		assert.Equal(t, c.minimum, kinds[Minimum].Line, name)
		assert.Equal(t, "Before you install", kinds[Minimum].Section, name)
		assert.Contains(t, kinds[Fault].Text, "Ports may flap", name)
		assert.Equal(t, "Lamps of the Q1 are green again.", kinds[About].Text, name)
		assert.Equal(t, []string{"Q-1"}, kinds[About].Models, name)
	}
	for name, data := range map[string]string{"binary": "\x7fELF\x01\x02\x03\x00\x00\x00\x00\x00\x00", "too long": strings.Repeat("x", MaxBytes+1)} {
		_, err := Read(name, []byte(data), PDF)
		assert.ErrorContains(t, err, name)
	}
}

// pdfOf writes a PDF with one page for each text, its lines from top to bottom.
func pdfOf(compressed bool, pages ...string) []byte {
	var b bytes.Buffer
	var at []int
	object := func(body string) {
		at = append(at, b.Len())
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", len(at), body)
	}
	b.WriteString("%PDF-1.4\n")
	var kids []string
	for i := range pages {
		kids = append(kids, fmt.Sprintf("%d 0 R", 4+2*i))
	}
	object("<< /Type /Catalog /Pages 2 0 R >>")
	object(fmt.Sprintf("<< /Type /Pages /Kids [%s] /Count %d >>", strings.Join(kids, " "), len(pages)))
	object("<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica /Encoding /WinAnsiEncoding >>")
	for i, text := range pages {
		object(fmt.Sprintf("<< /Type /Page /Parent 2 0 R /MediaBox [0 0 600 800] /Resources << /Font << /F1 3 0 R >> >> /Contents %d 0 R >>", 5+2*i))
		var c strings.Builder
		c.WriteString("BT /F1 12 Tf 50 750 Td 14 TL\n")
		for line := range strings.SplitSeq(text, "\n") {
			fmt.Fprintf(&c, "(%s) Tj T*\n", line)
		}
		c.WriteString("ET")
		body, filter := c.String(), ""
		if compressed {
			var z bytes.Buffer
			w := zlib.NewWriter(&z)
			_, _ = w.Write([]byte(body))
			_ = w.Close()
			body, filter = z.String(), "/Filter /FlateDecode "
		}
		object(fmt.Sprintf("<< %s/Length %d >>\nstream\n%s\nendstream", filter, len(body), body))
	}
	xref := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(at)+1)
	for _, o := range at {
		fmt.Fprintf(&b, "%010d 00000 n \n", o)
	}
	fmt.Fprintf(&b, "trailer << /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(at)+1, xref)
	return b.Bytes()
}

// A line of a page is that on which its text begins, whatever white space and tags stand in front.
func TestLinesOfPages(t *testing.T) {
	d, err := Read("n.html", []byte("<html><body>\n<p>\n\n  The boot loader must be\n3.2.0 or later.</p>\n<ul>\n<li>Ports may flap</li><li>\nLamps are green</li></ul></body></html>"), nil)
	require.NoError(t, err)
	var at []string
	for _, l := range d.Lines {
		at = append(at, fmt.Sprint(l.Number, " ", l.Text))
	}
	assert.Equal(t, []string{"4 The boot loader must be 3.2.0 or later.", "7 Ports may flap", "8 Lamps are green"}, at)
}

func TestPDF(t *testing.T) {
	for _, compressed := range []bool{false, true} {
		d, err := Read("n.pdf", pdfOf(compressed, "Release notes for 8.4.2\nAll is well.", "The boot loader must be 3.2.0 or later.\nAll settings are lost below 8.2.1."), PDF)
		require.NoError(t, err)
		all := Find("n.pdf", d, book(t), "")
		require.Len(t, all, 2)
		assert.Equal(t, Minimum, all[0].Kind)
		assert.Equal(t, 2, all[0].Page)
		assert.Equal(t, 1, all[0].Line)
		assert.Equal(t, "The boot loader must be 3.2.0 or later.", all[0].Text)
	}
	whole := pdfOf(true, "The boot loader must be 3.2.0 or later.")
	for name, data := range map[string][]byte{
		"cut short":  whole[:len(whole)/2],
		"no text":    pdfOf(false, ""),
		"root wrong": bytes.Replace(whole, []byte("/Root 1 0 R"), []byte("/Root 9 0 R"), 1),
	} {
		_, err := Read("n.pdf", data, PDF)
		assert.ErrorContains(t, err, "PDF", name)
	}
}

// A stream that inflates beyond the bound is refused before it is inflated for
// good.
func TestPDFBomb(t *testing.T) {
	_, err := Read("n.pdf", pdfOf(true, strings.Repeat(" ", maxInflated+1)), PDF)
	assert.ErrorContains(t, err, "inflates to more than 256 MiB, and is refused")
}

func TestCollect(t *testing.T) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	names := []string{"a/Release_Notes.txt", "a/leaflet", "a/guide.pdf", "a/readme.html", "a/main.img"}
	var licences []string
	for i := range 150 {
		licences = append(licences, fmt.Sprintf("p.zip::a/licence-%03d.txt", i))
		names = append(names, fmt.Sprintf("a/licence-%03d.txt", i))
	}
	for _, name := range names {
		f, err := w.Create(name)
		require.NoError(t, err)
		_, _ = f.Write([]byte("text"))
	}
	require.NoError(t, w.Close())
	path := filepath.Join(t.TempDir(), "p.zip")
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o644))
	rb := book(t)
	found, others, err := Collect(context.Background(), path, archive.DefaultLimits(), []*rulebook.Package{&rb.Packages[0]})
	require.NoError(t, err)
	names = nil
	for _, f := range found {
		names = append(names, strings.TrimPrefix(f.Address, "p.zip::a/"))
		assert.Equal(t, "text", string(f.Data))
	}
	assert.Equal(t, []string{"Release_Notes.txt", "guide.pdf", "leaflet", "readme.html"}, names)
	assert.Equal(t, licences, others, "every one, for they are counted")
}

func FuzzNotes(f *testing.F) {
	f.Add("n.txt", []byte("Before\n------\n- The boot loader must be 3.2.0 or later. See 8.4.2.\n"))
	f.Add("n.md", []byte("# A\n```\nx\n```\n| a | b |\n"))
	f.Add("n.html", []byte("<h1>x</h1><li>must be 8.4.2 or later<script>"))
	rb := book(f)
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		// What reads PDFs is not ours, and runs where it can be ended.
		d, err := Read(name, data, func(data []byte) ([]Line, error) { return nil, errors.New("not here") })
		if err != nil {
			return
		}
		all := Find(name, d, rb, "lamp")
		Compare(all, rb, Release(rb, name, d))
		for _, s := range all {
			if s.Line < 1 || len(s.Text) > longestSentence+8 {
				t.Fatalf("%+v", s)
			}
		}
	})
}

// What has more lines than the bound is read up to it, line by line.
func TestLinesAreBounded(t *testing.T) {
	lines := split(strings.Repeat("a line\n", MaxLines+7))
	require.Len(t, lines, MaxLines)
	assert.Equal(t, "a line", lines[MaxLines-1])
	assert.Equal(t, []string{"one", "two", "three", ""}, split("one\r\ntwo\rthree\f"))
}
