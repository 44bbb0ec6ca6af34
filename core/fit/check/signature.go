package check

import (
	"slices"
	"strings"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/sign"
	"fitcheck/core/survey"
)

var signatureCheck = Register(&Check{Name: "signature", Column: "signed", Order: 30, Hardware: true, Doc: "Does the signature verify with the kit's key?"})

var (
	signatureVerifies = signatureCheck.Code("verifies", Fits, "it verifies with the kit's key", "%s: %s", "")
	signatureFails    = signatureCheck.Code("fails", Misfit, "it does not verify, or cannot be read", "%s: %s", "do not install it; download it again from the maker")
	signatureExpired  = signatureCheck.Code("expired", Unsettled, "the key that made it no longer holds", "%s: %s", "ask the maker for a package that is signed with a key that still holds")
	signatureUnknown  = signatureCheck.Code("unknown_signer", Unsettled, "it is by a key that the kit does not have", "%s: %s", "find out who signed it, and put that key into keys/ only when the maker vouches for it")
	signaturePartial  = signatureCheck.Code("partial", Unsettled, "it covers only a part of what is installed", "%s: %s", "ask the maker for one whose signature covers all of it")
	signatureNoKey    = signatureCheck.Code("no_key", Unsettled, "the kit has no key to verify it with", "%s: %s", "put the maker's public key into the kit's keys/")
	signatureAbsent   = signatureCheck.Code("absent", Unsettled, "the rulebook expects one, and there is none", "%s: %s", "get the signature from the maker")
	signatureQuick    = signatureCheck.Code("quick", Unsettled, "it was not verified", "the signature was not verified", "match again without -quick")
	signatureExtra    = signatureCheck.Code("not_expected", Note, "the image carries one that nobody expects and for which there is no key", "%s: %s", "")
	signatureCovers   = signatureCheck.Code("covers", Fits, "a signature covers the image: what is signed gives a strong digest of it, or of an archive that holds it", "what is signed covers it: %s", "")
	signatureSilent   = signatureCheck.Code("silent", Unsettled, "what is signed gives no digest of the image", "%s is signed, and gives no digest of this image: anybody could have put the image there",
		"ask the maker for a signed list with a SHA-256 of every image")
	signatureWeak = signatureCheck.Code("weak_digest", Unsettled, "what is signed gives only a weak digest of the image", "%s is signed, and knows this image by its %s only, which can be forged",
		"ask the maker for a signed list with a SHA-256 of every image")
	signatureNotYet   = signatureCheck.Code("not_yet_valid", Unsettled, "the certificate that made it does not hold yet", "%s: %s", "look at this machine's clock; if it is right, ask the maker")
	signatureNotAsked = signatureCheck.Code("none_expected", NotApplicable, "the rulebook expects no signature", "no signature is expected", "")
	signatureThere    = signatureCheck.Code("unexpected_file", Note, "the package holds a signature that the rulebook does not speak of", "%s is a signature that nobody expects, and is not verified", "")
	signatureInPart   = signatureCheck.Code("signed_in_part", Unsettled, "an image that would be started is not covered", "%s is not signed, nor is the configuration that starts it",
		"ask the maker for one whose signature covers all of it")
	signatureNone = signatureCheck.Code("not_signed", Unsettled, "the rulebook expects the image to carry one, and it carries none", "the rulebook expects the image to carry a signature, and it carries none", "ask the maker for the signed image")
)

func init() {
	signatureCheck.Runs(PerPackage(signatures), PerImage(func(c *Case, k Component, cand *Candidate) []Line { return c.signature(k, cand.Item) }))
}

// signatures tell how the signature that the rulebook expects came out.
func signatures(s *survey.Survey) []Line {
	if s.Broken() {
		return nil
	}
	var out []Line
	for _, sig := range s.Signatures {
		l := Signed(sig)
		if sig.Rule != nil {
			l.Cite(Cited{OfRule, "key " + sig.Rule.Key.Text, s.Rulebook.Source(sig.Rule.Spot)})
		}
		out = append(out, l)
	}
	if e := s.Entry; e != nil && e.Signature != nil && len(out) == 0 && e.Signature.Of.Text != "image" {
		l := signatureQuick.Line("")
		l.Device, l.Package = "signed", "not verified"
		out = append(out, *l.Cite(Cited{OfRule, "signature", s.Rulebook.Source(e.Signature.Spot)}, ofName("not verified", s.Name)))
	}
	for _, part := range s.Each() {
		if part.Entry != nil && part.Entry.Signature != nil {
			continue
		}
		for _, it := range part.Items {
			if it.Kind == "signature" && len(out) < maxCited {
				l := signatureThere.Line("", it.Address)
				l.Device, l.Package = "no signature expected", it.Address
				out = append(out, *l.Cite(Cited{OfStated, "none expected", fact.Source{Kind: fact.FileName, File: part.Name}}, ofContent("a signature", it)))
			}
		}
	}
	return out
}

// signature tells how the signatures came out that an image carries itself: those
// of the image, and of the configuration that would start.
func (c *Case) signature(k Component, it *survey.Item) []Line {
	var out []Line
	config := c.Configuration(it)
	of := c.Survey.PartOf(it.Address)
	expected := of.Entry != nil && of.Entry.Signature != nil && of.Entry.Signature.Of.Text == "image"
	for _, s := range it.Signed {
		if config != "" && s.Config != "" && s.Config != config {
			continue
		}
		l := Signed(s)
		l.Component = k.Name
		if s.Outcome == sign.NoKey && !expected {
			l = signatureExtra.become(l, s.Of, s.Because)
		}
		out = append(out, l)
	}
	if !expected {
		return append(out, c.signedText(k, it)...)
	}
	rule := of.Entry.Signature
	missing := func(code *Code, said string, args ...any) {
		l := code.Line(k.Name, args...)
		l.Device, l.Package = "a signed image", said
		out = append(out, *l.Cite(Cited{OfRule, "key " + rule.Key.Text, of.Rulebook.Source(rule.Spot)}, Cited{OfPackage, said, fact.Source{Kind: fact.Header, File: it.Address}}))
	}
	if len(out) == 0 {
		missing(signatureNone, "not signed")
	} else if left := unsigned(it, config); len(left) > 0 {
		missing(signatureInPart, "signed in part", strings.Join(left, ", "))
	}
	return out
}

// signedText tells whether what the rulebook expects to be signed, and is, vouches for an
// image: by a strong digest of it or of an archive that holds it.
func (c *Case) signedText(k Component, it *survey.Item) []Line {
	of := c.Survey.PartOf(it.Address)
	if of.Entry == nil || of.Entry.Signature == nil {
		l := signatureNotAsked.Line(k.Name)
		l.Device, l.Package = "no signature expected", "not asked"
		return []Line{*l.Cite(ofName("no signature asked", it.Address), Cited{OfStated, "none expected", fact.Source{Kind: fact.FileName, File: of.Name}})}
	}
	verified := -1
	for i, s := range of.Signatures {
		if s.Outcome == sign.Verified && s.Rule != nil {
			verified = i
		}
	}
	if verified < 0 { // how it came out is told for the package
		return nil
	}
	sig := of.Signatures[verified]
	base := Line{Component: k.Name, Device: "a signature that covers it", Package: it.Address}
	base.Cite(Cited{OfRule, "signature of " + of.Entry.Signature.Of.Text, of.Rulebook.Source(of.Entry.Signature.Spot)}, Cited{OfStated, string(sig.Outcome), fact.Source{Kind: fact.Content, File: sig.Of}})
	if weak, ok := digest.Weakest(c.Survey.Coverage(it)); ok && weak.By == digest.BySignature && weak.Holds {
		base.Cite(Cited{OfPackage, weak.Of, fact.Source{Kind: fact.Content, File: it.Address, Size: it.Size}})
		return []Line{signatureCovers.become(base, weak.Of)}
	}
	if sig.Weak {
		base.Cite(ofContent("signed by SHA-1", it))
		return []Line{signatureWeak.become(base, sig.Of, "SHA-1")}
	}
	for _, holder := range append([]*survey.Item{it}, c.Survey.Around(it)...) {
		for _, p := range holder.Published {
			if c.Survey.SignatureOver(p.Source.File) != nil && p.Sum.Algorithm.Weak() {
				base.Cite(citePublished(holder, p)...)
				return []Line{signatureWeak.become(base, sig.Of, p.Sum.Algorithm)}
			}
		}
	}
	base.Cite(Cited{OfPackage, "not mentioned", fact.Source{Kind: fact.Content, File: it.Address}})
	return []Line{signatureSilent.become(base, sig.Of)}
}

// unsigned lists the images that a configuration starts and that neither its
// signature nor one of their own covers. Without a configuration's name, any of
// them may be the one that starts.
func unsigned(it *survey.Item, config string) []string {
	if it.Image == nil {
		return nil
	}
	images, configs := map[string]bool{}, map[string]bool{}
	for _, s := range it.Signed {
		switch {
		case s.Config != "": // how that came out is told by itself
			configs[s.Config] = true
		case s.Outcome == sign.Verified:
			images[s.Of] = true
		}
	}
	var out []string
	if len(it.Image.Configs) == 0 { // nothing says which of its images starts
		for _, p := range it.Image.Parts {
			if !images[it.Address+"::"+p.Name] {
				out = append(out, p.Name)
			}
		}
	}
	for _, conf := range it.Image.Configs {
		if config != "" && conf.Name != config || configs[conf.Name] {
			continue
		}
		for _, name := range conf.Images {
			if !images[it.Address+"::"+name] && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

// Signed words how a signature came out.
func Signed(s survey.Signed) Line {
	code := map[sign.Outcome]*Code{sign.Verified: signatureVerifies, sign.Failed: signatureFails, sign.Unread: signatureFails, sign.Expired: signatureExpired, sign.NotYet: signatureNotYet,
		sign.Unknown: signatureUnknown, sign.Partial: signaturePartial, sign.NoKey: signatureNoKey}[s.Outcome]
	if code == nil {
		code = signatureAbsent
	}
	l := code.Line("", s.Of, s.Because)
	said := string(s.Outcome)
	if s.Signer != "" {
		said += " by " + s.Signer
	}
	l.Device, l.Package = "a signature that verifies", string(s.Outcome)
	return *l.Cite(Cited{OfStated, said, s.Source}, Cited{OfPackage, said, fact.Source{Kind: fact.Content, File: s.Of}})
}
