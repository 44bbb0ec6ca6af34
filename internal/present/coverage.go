package present

import (
	"fmt"
	"html/template"
	"strings"

	"fitcheck/core/digest"
	"fitcheck/core/fit"
)

// proofWords say what kinds of proof are, in words.
var proofWords = map[digest.Proof]string{
	digest.Unproven: "nothing", digest.ByArchive: "only the checksum of the archive around it", digest.ByStructure: "its structure alone, since its format has no checksum",
	digest.ByListInside: "a checksum list in the package itself", digest.ByChecksum: "a checksum of its own format", digest.ByManifest: "a manifest in the package",
	digest.ByListBeside: "a checksum list beside the download", digest.ByGiven: "the digest that was given", digest.ByRulebook: "a digest in the rulebook", digest.BySignature: "a signature",
}

// weakestProof names the weakest proof of a verdict in one line; "" for none.
func weakestProof(v *fit.Verdict) string {
	w := v.Weakest
	if w == nil {
		return ""
	}
	t := "weakest proof: " + proofWords[w.By]
	if w.Of != "" && w.Of != "structure" {
		t += " (" + inText(v.Package, w.Of) + ")"
	}
	if !w.Holds {
		t += ", which does not hold"
	}
	return t
}

// provenBy lists what proves an image, stretch by stretch, up to a number of them.
func provenBy(pkg string, all []digest.Cover, most int) []string {
	var out []string
	for i, c := range all {
		if i == most && len(all) > most+1 {
			return append(out, fmt.Sprintf("and %d more stretches", len(all)-i))
		}
		t := "bytes " + fmt.Sprintf("%d–%d", c.From, c.To-1)
		if len(all) == 1 {
			t = "all bytes"
		}
		switch {
		case c.Padding:
			t += ": padding"
		case c.Of == "" || c.By == digest.ByStructure:
			t += ": " + proofWords[c.By]
		default:
			t += fmt.Sprintf(": %s, %s", c.By, inText(pkg, c.Of))
		}
		if !c.Holds {
			t += ", which does not hold"
		}
		out = append(out, t)
	}
	return out
}

// maxCoversShown is how many stretches of one image are shown.
const maxCoversShown = 8

// coverageBar draws the stretches of an image as one bar, as wide as the page.
func coverageBar(pkg string, all []digest.Cover) template.HTML {
	if len(all) == 0 {
		return ""
	}
	size := all[len(all)-1].To
	var b strings.Builder
	b.WriteString(`<div class="bar">`)
	for _, c := range all {
		class := map[bool]string{true: "weak", false: "good"}[c.By <= digest.ByStructure]
		switch {
		case !c.Holds:
			class = "bad"
		case c.Padding:
			class = "pad"
		case c.By <= digest.ByArchive:
			class = "open"
		}
		title := strings.Join(provenBy(pkg, []digest.Cover{c}, 1), "")
		title = strings.Replace(title, "all bytes", fmt.Sprintf("bytes %d–%d", c.From, c.To-1), 1)
		fmt.Fprintf(&b, `<i class="%s" style="flex:%d" title="%s"></i>`, class, max(1, (c.To-c.From)*1000/max(1, size)), template.HTMLEscapeString(Safe(title)))
	}
	b.WriteString(`</div>`)
	return template.HTML(b.String())
}
