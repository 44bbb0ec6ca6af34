package fit

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/sign"
	"fitcheck/core/survey"
)

// signatureChecks tell how the signature that the rulebook expects came out.
func signatureChecks(s *survey.Survey) []Check {
	var out []Check
	for _, sig := range s.Signatures {
		ch := signatureCheck(sig)
		if sig.Rule != nil {
			ch.Sources = append(ch.Sources, Cited{OfRule, "key " + sig.Rule.Key.Text, s.Rulebook.Source(sig.Rule.Spot)})
		}
		out = append(out, ch)
	}
	if e := s.Entry; e != nil && e.Signature != nil && len(out) == 0 && e.Signature.Of.Text != "image" && !s.Broken() {
		out = append(out, Check{Check: "signature", Outcome: Unsettled, Device: "signed", Package: "not verified", Because: "the signature was not verified",
			Advice: "match again without -quick", Sources: []Cited{{OfRule, "signature", s.Rulebook.Source(e.Signature.Spot)}}})
	}
	return out
}

// signature tells how the signatures came out that an image carries itself:
// those of the image, and of the configuration that would start.
func (j *judge) signature(c component, it *survey.Item) []Check {
	var out []Check
	config := j.configuration(it)
	of := j.s.PartOf(it.Address)
	expected := of.Entry != nil && of.Entry.Signature != nil && of.Entry.Signature.Of.Text == "image"
	for _, s := range it.Signed {
		if config != "" && s.Config != "" && s.Config != config {
			continue
		}
		ch := signatureCheck(s)
		ch.Component = c.name
		if s.Outcome == sign.NoKey && !expected {
			ch.Outcome, ch.Advice = Note, ""
		}
		out = append(out, ch)
	}
	if left := j.unsigned(it, config); expected && len(out) > 0 && len(left) > 0 {
		rule := of.Entry.Signature
		out = append(out, Check{Check: "signature", Component: c.name, Outcome: Unsettled, Device: "a signed image", Package: "signed in part",
			Because: fmt.Sprintf("%s is not signed, nor is the configuration that starts it", strings.Join(left, ", ")), Advice: "ask the maker for an image whose signature covers all that it starts",
			Sources: []Cited{{OfRule, "key " + rule.Key.Text, of.Rulebook.Source(rule.Spot)}, {OfPackage, "signed in part", fact.Source{Kind: fact.Header, File: it.Address}}}})
	}
	if expected && len(out) == 0 {
		rule := of.Entry.Signature
		out = append(out, Check{Check: "signature", Component: c.name, Outcome: Unsettled, Device: "a signed image", Package: "not signed",
			Because: "the rulebook expects the image to carry a signature, and it carries none", Advice: "ask the maker for the signed image",
			Sources: []Cited{{OfRule, "key " + rule.Key.Text, of.Rulebook.Source(rule.Spot)}, {OfPackage, "not signed", fact.Source{Kind: fact.Header, File: it.Address}}}})
	}
	return out
}

// unsigned lists the images that a configuration starts and that neither its
// signature nor one of their own covers. Without a configuration's name, any
// of them may be the one that starts.
func (j *judge) unsigned(it *survey.Item, config string) []string {
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
	for _, c := range it.Image.Configs {
		if config != "" && c.Name != config || configs[c.Name] {
			continue
		}
		for _, name := range c.Images {
			if !images[it.Address+"::"+name] && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

func signatureCheck(s survey.Signed) Check {
	ch := Check{Check: "signature", Device: "a signature that verifies", Package: string(s.Outcome), Because: fmt.Sprintf("%s: %s", s.Of, s.Because)}
	said := string(s.Outcome)
	if s.Signer != "" {
		said += " by " + s.Signer
	}
	ch.Sources = []Cited{{OfPackage, said, s.Source}}
	switch s.Outcome {
	case sign.Verified:
		ch.Outcome = Fits
	case sign.Failed, sign.Unread:
		ch.Outcome, ch.Advice = Misfit, "do not install it; download it again from the maker"
	case sign.Expired:
		ch.Outcome, ch.Advice = Unsettled, "ask the maker for a package that is signed with a key that still holds"
	case sign.Unknown:
		ch.Outcome, ch.Advice = Unsettled, "find out who signed it, and put that key into keys/ only when the maker vouches for it"
	case sign.Partial:
		ch.Outcome, ch.Advice = Unsettled, "ask the maker for an image whose signature covers all that it starts"
	case sign.NoKey:
		ch.Outcome, ch.Advice = Unsettled, "put the maker's public key into the kit's keys/"
	default:
		ch.Outcome, ch.Advice = Unsettled, "get the signature from the maker"
	}
	return ch
}
