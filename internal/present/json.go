package present

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/survey"
)

// Edition of the JSON documents. It grows when a field changes its meaning;
// new fields may come at any time.
const Edition = 1

// editionOfResults is that of the documents that have a list of results, whatever their
// number: match, path, runbook and confirm.
const editionOfResults = 2

// jsonResults is such a document.
type jsonResults[T any] struct {
	Fitcheck about            `json:"fitcheck"`
	Verdict  string           `json:"verdict"`
	Results  []T              `json:"results"`
	Refused  []RefusedPackage `json:"refused,omitempty"`
}

func resultsJSON[T any](document, verdict string, results []T) jsonResults[T] {
	if results == nil {
		results = []T{}
	}
	return jsonResults[T]{Fitcheck: about{document, editionOfResults}, Verdict: verdict, Results: results}
}

type about struct {
	Document string `json:"document"`
	Edition  int    `json:"edition"`
}

// WriteJSON writes one document. Every control character and direction mark
// in it is escaped as \u….
func WriteJSON(w io.Writer, doc any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	many, streamed := doc.(*itemStream)
	if streamed {
		doc = many.doc
	}
	if err := e.Encode(doc); err != nil {
		return err
	}
	if !streamed {
		_, err := w.Write(escapeInvisible(b.Bytes()))
		return err
	}
	head, rest, _ := bytes.Cut(b.Bytes(), []byte(`"`+many.list+`": []`))
	if _, err := w.Write(escapeInvisible(head)); err != nil {
		return err
	}
	if err := many.write(w); err != nil {
		return err
	}
	_, err := w.Write(escapeInvisible(rest))
	return err
}

// WriteLine writes one document on one line, for what tells as it goes.
func WriteLine(w io.Writer, doc any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(doc); err != nil {
		return err
	}
	_, err := w.Write(escapeInvisible(b.Bytes()))
	return err
}

// itemStream is a document whose items are written one by one, so that it need not be held
// as a whole. The document itself has an empty list of them.
type itemStream struct {
	doc  any
	list string // the key of the list
	n    int
	at   func(i int) any
	of   any // an empty item
	// line: each item is written on one line.
	line bool
}

func (m *itemStream) write(w io.Writer) error {
	open := `"` + m.list + `": [`
	for i := range m.n {
		text, err := m.text(i)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "%s\n    %s", open, escapeInvisible(text)); err != nil {
			return err
		}
		open = ","
	}
	end := "\n  ]"
	if m.n == 0 {
		end = open + "]"
	}
	_, err := io.WriteString(w, end)
	return err
}

func (m *itemStream) text(i int) ([]byte, error) {
	if !m.line {
		return jsonIndent(m.at(i), "    ")
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(m.at(i))
	return bytes.TrimRight(b.Bytes(), "\n"), err
}

// jsonIndent writes a value as it stands within a document.
func jsonIndent(v any, prefix string) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent(prefix, "  ")
	err := e.Encode(v)
	return bytes.TrimRight(b.Bytes(), "\n"), err
}

// ErrorJSON is the document of a call that failed: what is wrong, where, and what to do.
func ErrorJSON(code, message, where string) any {
	type failure struct {
		Code   string `json:"code"`
		What   string `json:"what"`
		Where  string `json:"where"`
		Advice string `json:"advice"`
	}
	f := failure{Code: code, What: message, Where: where}
	if i := strings.LastIndex(message, "; "); i > 0 && !strings.Contains(message, "\n") {
		f.What, f.Advice = message[:i], message[i+2:]
	}
	return struct {
		Fitcheck about   `json:"fitcheck"`
		Error    failure `json:"error"`
	}{about{"error", Edition}, f}
}

// escapeInvisible escapes what encoding/json leaves as it is. Such characters
// can only stand inside strings.
func escapeInvisible(b []byte) []byte {
	out := make([]byte, 0, len(b))
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		if r != '\n' && archive.Invisible(r) {
			for _, unit := range utf16.Encode([]rune{r}) {
				out = fmt.Appendf(out, `\u%04x`, unit)
			}
		} else {
			out = append(out, b[:n]...)
		}
		b = b[n:]
	}
	return out
}

type jsonFact struct {
	About  string `json:"about"`
	Value  string `json:"value"`
	Source string `json:"source"`
	Where  string `json:"where"`
}

type jsonProblem struct {
	Class  string `json:"class"`
	Item   string `json:"item"`
	What   string `json:"what"`
	Advice string `json:"advice,omitempty"`
}

type jsonIntegrity struct {
	What string `json:"what"`
	Want string `json:"want"`
	Got  string `json:"got"`
	OK   bool   `json:"ok"`
}

// jsonPart is a part of an image: where it lies, and what its own header says.
type jsonPart struct {
	Name     string `json:"name"`
	Offset   int64  `json:"offset"`
	Size     int64  `json:"size"`
	Kind     string `json:"kind,omitempty"`
	Packed   string `json:"packed,omitempty"` // method by which it lies there compressed
	Unpacked int64  `json:"unpacked_size,omitempty"`
	*jsonImage
}

type jsonSigned struct {
	Item    string `json:"item,omitempty"`
	Of      string `json:"of"`
	Outcome string `json:"outcome"`
	Because string `json:"because"`
	Signer  string `json:"signer,omitempty"`
}

func signedJSON(all []survey.Signed) []jsonSigned {
	var out []jsonSigned
	for _, s := range all {
		out = append(out, jsonSigned{s.Item, s.Of, string(s.Outcome), s.Because, s.Signer})
	}
	return out
}

// jsonRegion is a stretch of a blob that the deep scan has mapped.
type jsonRegion struct {
	From  int64      `json:"from"`
	To    int64      `json:"to"`
	What  string     `json:"what"`
	Kind  string     `json:"kind,omitempty"`
	Image *jsonImage `json:"image,omitempty"`
}

func mapJSON(all []image.Region) []jsonRegion {
	var out []jsonRegion
	for _, r := range all {
		j := jsonRegion{From: r.From, To: r.To, What: r.What, Kind: r.Kind}
		if r.Image != nil {
			j.Image = imageJSON(r.Image, r.Image.Facts)
		}
		out = append(out, j)
	}
	return out
}

type jsonConfig struct {
	Name    string     `json:"name"`
	Default bool       `json:"default,omitempty"`
	Boards  []string   `json:"boards,omitempty"`
	Arch    []string   `json:"arch,omitempty"`
	Facts   []jsonFact `json:"facts"`
}

type jsonImage struct {
	Format      string          `json:"format,omitempty"`
	Arch        string          `json:"arch,omitempty"`
	OS          string          `json:"os,omitempty"`
	Type        string          `json:"type,omitempty"`
	Compression string          `json:"compression,omitempty"`
	Title       string          `json:"title,omitempty"`
	Version     string          `json:"version,omitempty"`
	Built       string          `json:"built,omitempty"`
	Load        *uint64         `json:"load,omitempty"`
	Entry       *uint64         `json:"entry,omitempty"`
	Boards      []string        `json:"boards,omitempty"`
	Models      []string        `json:"models,omitempty"`
	Revisions   []string        `json:"revisions,omitempty"`
	Family      string          `json:"family,omitempty"`
	Integrity   []jsonIntegrity `json:"integrity,omitempty"`
	Configs     []jsonConfig    `json:"configurations,omitempty"`
	Parts       []jsonPart      `json:"parts,omitempty"`
	Contents    *jsonContents   `json:"contents,omitempty"`
}

func imageJSON(m *image.Image, facts []fact.Fact) *jsonImage {
	if m == nil {
		return nil
	}
	one := func(n fact.Name) string {
		if v := texts(facts, n); len(v) > 0 {
			return v[0]
		}
		return ""
	}
	boards := texts(facts, fact.Board)
	j := &jsonImage{Format: m.Format, Arch: one(fact.Arch), OS: one(fact.OS), Type: one(fact.Type), Compression: m.Compression, Title: one(fact.Title),
		Version: one(fact.Version), Built: one(fact.Built), Load: m.Load, Entry: m.Entry, Models: texts(facts, fact.Model),
		Revisions: texts(facts, fact.Revision), Family: one(fact.Family), Contents: contentsJSON(m.Contents)}
	for _, s := range m.Sums {
		j.Integrity = append(j.Integrity, jsonIntegrity{s.What, s.Want, found(s), s.OK})
	}
	for _, c := range m.Configs {
		jc := jsonConfig{c.Name, c.Default, texts(c.Facts, fact.Board), texts(c.Facts, fact.Arch), factsJSON(c.Facts)}
		j.Configs = append(j.Configs, jc)
		boards = append(boards, jc.Boards...)
		if len(jc.Arch) == 1 && (j.Arch == "" || j.Arch == jc.Arch[0]) {
			j.Arch = jc.Arch[0]
		} else if len(jc.Arch) > 0 {
			j.Arch = "" // they differ; each configuration says its own
		}
	}
	for _, b := range boards {
		if !slices.Contains(j.Boards, b) {
			j.Boards = append(j.Boards, b)
		}
	}
	for _, p := range m.Parts {
		jp := jsonPart{Name: p.Name, Offset: p.Offset, Size: p.Size, Kind: p.Kind, Packed: p.Compression, Unpacked: p.Unpacked}
		jp.jsonImage = partJSON(p)
		j.Parts = append(j.Parts, jp)
	}
	return j
}

// partJSON is what is known of a part: what its own header says, and, before that, what the
// image around it says of it.
func partJSON(p image.Part) *jsonImage {
	j := &jsonImage{Format: p.Kind}
	if p.Image != nil {
		j = imageJSON(p.Image, p.Image.Facts)
	}
	set := func(to *string, said string) {
		if said != "" {
			*to = said
		}
	}
	set(&j.Title, p.Said.Title)
	set(&j.Type, p.Said.Type)
	set(&j.OS, p.Said.OS)
	set(&j.Arch, p.Said.Arch)
	set(&j.Compression, p.Said.Compression)
	if p.Said.Load != nil {
		j.Load = p.Said.Load
	}
	if p.Said.Entry != nil {
		j.Entry = p.Said.Entry
	}
	if j.Compression == "" {
		j.Compression = p.Compression
	}
	return j
}

// texts lists the values of one thing. Boards that an image is only kin to
// count, too; of other things, what the source leaves open does not.
func texts(facts []fact.Fact, n fact.Name) (out []string) {
	for _, f := range facts {
		if f.About == n && (!f.Open || n == fact.Board) && !slices.Contains(out, f.Value) {
			out = append(out, f.Value)
		}
	}
	return out
}

func factsJSON(all []fact.Fact) []jsonFact {
	out := []jsonFact{}
	for _, f := range all {
		out = append(out, jsonFact{string(f.About), f.Text(), string(f.Source.Kind), f.Source.Where()})
	}
	return out
}

func problemsJSON(all []archive.Problem) []jsonProblem {
	out := []jsonProblem{}
	for _, p := range all {
		out = append(out, jsonProblem{string(p.Class), p.Item, p.What, p.Advice})
	}
	return out
}

func init() {
	form(func() any { return SurveyJSON(&survey.Survey{}) })
	form(func() any { return HeaderJSON(Header{Image: &image.Image{}}) })
	form(func() any { return DemoJSON(nil) })
	form(func() any { return VersionJSON("", "", Commit{}) })
	form(func() any { return ErrorJSON("", "", "") })
}

// SurveyJSON is the document "survey".
func SurveyJSON(s *survey.Survey) any {
	type item struct {
		Path      string        `json:"path"`
		Size      int64         `json:"size"`
		Kind      string        `json:"kind"`
		Role      string        `json:"role,omitempty"`
		Component string        `json:"component,omitempty"`
		Digests   digest.Set    `json:"digests"`
		Image     *jsonImage    `json:"image,omitempty"`
		Contents  *jsonContents `json:"contents,omitempty"`
		Map       []jsonRegion  `json:"map,omitempty"`
		Nature    string        `json:"nature,omitempty"`
		Signed    []jsonSigned  `json:"signatures,omitempty"`
		Facts     []jsonFact    `json:"facts"`
		Problems  []jsonProblem `json:"problems"`
	}
	type pkg struct {
		Name     string     `json:"name"`
		Size     int64      `json:"size"`
		Digests  digest.Set `json:"digests"`
		Folder   bool       `json:"folder,omitempty"`
		Handling string     `json:"handling,omitempty"`
		Facts    []jsonFact `json:"facts,omitempty"`
	}
	doc := struct {
		Fitcheck about         `json:"fitcheck"`
		Package  pkg           `json:"package"`
		Items    []item        `json:"items"`
		Signed   []jsonSigned  `json:"signatures,omitempty"`
		Problems []jsonProblem `json:"problems"`
		Notes    []string      `json:"notes,omitempty"`
	}{about{"survey", Edition}, pkg{Name: s.Name, Size: s.Size, Digests: s.Digests, Folder: s.Folder, Facts: factsJSON(s.NameClaim)}, []item{}, signedJSON(s.Signatures), problemsJSON(s.Problems), s.Notes}
	if doc.Package.Digests == nil {
		doc.Package.Digests = digest.Set{}
	}
	if s.Entry != nil {
		doc.Package.Handling = s.Entry.Handling.Text
	}
	lines := withContents(s)
	return &itemStream{doc: doc, list: "items", of: item{}, n: len(lines), at: func(i int) any {
		it := lines[i].item
		if f := lines[i].file; f != nil {
			sums := digest.Set{}
			if f.SHA256 != "" {
				sums = append(sums, digest.Sum{Algorithm: digest.SHA256, Hex: f.SHA256})
			}
			return item{Path: it.Address + "::" + f.Path, Size: f.Size, Kind: f.Kind, Digests: sums, Facts: []jsonFact{}, Problems: []jsonProblem{}}
		}
		var header []fact.Fact // with what the rulebook's patterns read out of the title
		if w, ok := it.Witness(fact.Header); ok && len(it.Image.Configs) == 0 {
			header = w.Claims[0]
		} else if it.Image != nil {
			header = it.Image.Facts
		}
		return item{it.Address, it.Size, it.Kind, it.Role, it.Component(), it.Digests, imageJSON(it.Image, header), contentsJSON(it.Contents), mapJSON(it.Map), it.Nature, signedJSON(it.Signed), factsJSON(it.Facts()), problemsJSON(it.Problems)}
	}}
}

// HeaderJSON is the document "header".
func HeaderJSON(h Header) any {
	type field struct {
		Name    string `json:"name"`
		Offset  int64  `json:"offset"`
		Size    int    `json:"size"`
		Raw     string `json:"raw"`
		Value   string `json:"value"`
		Meaning string `json:"meaning"`
	}
	doc := struct {
		Fitcheck about      `json:"fitcheck"`
		File     string     `json:"file"`
		Size     int64      `json:"size"`
		Image    *jsonImage `json:"image"`
		Fields   []field    `json:"fields"`
		Problems []string   `json:"problems"`
	}{about{"header", Edition}, h.Path, h.Size, imageJSON(h.Image, h.Image.Facts), []field{}, append([]string{}, h.Image.Problems...)}
	for _, f := range h.Image.Fields {
		doc.Fields = append(doc.Fields, field{f.Name, f.Offset, len(f.Raw), hex.EncodeToString(f.Raw), f.Value, f.Meaning})
	}
	return doc
}

// DemoCase is how one case of the demo came out.
type DemoCase struct {
	Case     string `json:"case"`
	Command  string `json:"command"`
	Expected string `json:"expected"`
	Got      string `json:"got"`
	OK       bool   `json:"ok"`
}

// DemoJSON is the document "demo".
func DemoJSON(cases []DemoCase) any {
	return struct {
		Fitcheck about      `json:"fitcheck"`
		Cases    []DemoCase `json:"cases"`
	}{about{"demo", Edition}, cases}
}

// Commit is what a program was built from; the zero value where that was not recorded.
type Commit struct {
	Revision string `json:"revision"`
	Date     string `json:"date"`               // RFC 3339
	Modified bool   `json:"modified,omitempty"` // something was changed since
}

// Text is the commit for people: ", from commit 3ee1956 of 2026-11-27".
func (c Commit) Text() string {
	if c.Revision == "" {
		return ""
	}
	t := ", from commit " + c.Revision[:min(len(c.Revision), 12)]
	if len(c.Date) >= 10 {
		t += " of " + c.Date[:10]
	}
	if c.Modified {
		t += ", with changes"
	}
	return t
}

// VersionJSON is the document "version".
func VersionJSON(version, built string, from Commit) any {
	var commit *Commit
	if from.Revision != "" {
		commit = &from
	}
	return struct {
		Fitcheck about   `json:"fitcheck"`
		Version  string  `json:"version"`
		Built    string  `json:"built_with"`
		Commit   *Commit `json:"commit,omitempty"`
	}{about{"version", Edition}, version, built, commit}
}
