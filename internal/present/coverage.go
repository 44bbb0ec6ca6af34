package present

import (
	"fmt"
	"strings"

	"fitcheck/core/digest"
	"fitcheck/core/fit"
	"fitcheck/internal/present/page"
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

// coverageBar draws the stretches of an image as one bar, where there is room for it.
func coverageBar(pkg string, all []digest.Cover) page.Bar {
	if len(all) == 0 {
		return page.Bar{Picture: true}
	}
	b := page.Bar{Size: all[len(all)-1].To, Picture: true}
	for _, c := range all {
		tone := page.Good
		switch {
		case !c.Holds:
			tone = page.Bad
		case c.Padding:
			tone = page.Faint
		case c.By <= digest.ByArchive:
			tone = page.Doubt
		case c.By <= digest.ByStructure:
			tone = page.Info
		}
		title := strings.Replace(strings.Join(provenBy(pkg, []digest.Cover{c}, 1), ""), "all bytes", fmt.Sprintf("bytes %d–%d", c.From, c.To-1), 1)
		b.Pieces = append(b.Pieces, page.Piece{From: c.From, To: c.To, Tone: tone, Title: title})
	}
	return b
}
