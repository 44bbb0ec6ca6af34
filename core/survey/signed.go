package survey

import (
	"context"
	"crypto"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/rulebook"
	"fitcheck/core/sign"
)

// Keys finds a key of the kit by its name; nil when there is none. An error
// says that there is one and that it cannot be read.
type Keys func(name string) (*sign.Key, error)

// Signed is a signature and how it came out.
type Signed struct {
	Item string // address of the signature, or of the image that carries it
	Of   string // what is signed: an address, or a configuration of an image
	// Config is the configuration that is signed, of an image that has some.
	Config string
	sign.Result
	Source fact.Source
	// Weak: what is signed is a digest that can be forged (SHA-1).
	Weak bool
	// Over is what is signed, of an image that carries the signature.
	Over []digest.Stretch
	// Rule is the rulebook's, where it expects the signature.
	Rule *rulebook.SignatureRule
}

// BadSignature is the class of signatures that do not verify.
const BadSignature archive.Class = "signature"

// verify verifies the signature that the rulebook tells of, and those that
// images carry and for which the kit has keys.
func (s *Survey) verify(ctx context.Context, o Options) error {
	if o.Keys == nil || o.Quick {
		return nil
	}
	if s.Entry != nil && s.Entry.Signature != nil && s.Entry.Signature.Of.Text != "image" {
		if err := s.verifyRule(ctx, o, s.Entry.Signature); err != nil {
			return err
		}
	}
	for _, it := range s.Items {
		if it.Image != nil && len(it.Image.Signatures) > 0 {
			if err := s.verifyImage(ctx, o, it); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Survey) verifyRule(ctx context.Context, o Options, rule *rulebook.SignatureRule) error {
	add := func(item, of string, r sign.Result) {
		src := s.Rulebook.Source(rule.Spot)
		if item != "" {
			src = fact.Source{Kind: fact.Content, File: item}
		}
		s.Signatures = append(s.Signatures, Signed{Item: item, Of: of, Result: r, Source: src, Rule: rule, Weak: strings.HasSuffix(rule.Scheme.Text, "sha1")})
		s.tell(item, of, r)
	}
	targets := s.signedBy(rule)
	of := rule.Of.Text
	if len(targets) > 0 {
		of = targets[0].Address
	}
	items := s.matching(rule.Item.Match)
	if len(items) == 0 {
		add("", of, sign.Result{Outcome: sign.Missing, Because: fmt.Sprintf("the rulebook expects a signature (%s), and there is none", rule.Item.Pattern)})
		return nil
	}
	key, err := o.Keys(rule.Key.Text)
	if err != nil {
		return err
	}
	tried := map[*Item]bool{}
	for _, it := range items {
		switch {
		case key == nil:
			add(it.Address, of, sign.Result{Outcome: sign.NoKey, Because: fmt.Sprintf("the kit has no key %s in keys/", rule.Key.Text)})
			continue
		case it.text == nil:
			continue
		case len(targets) == 0:
			add(it.Address, of, sign.Result{Outcome: sign.Missing, Because: fmt.Sprintf("what it signs (%s) is not in the package", rule.Of.Text)})
			continue
		}
		for _, target := range nearest(it, targets) {
			tried[target] = true
			var r sign.Result
			err := s.content(ctx, o, target, func(c *archive.Content) {
				r = sign.Verify(it.text.data, rule.Scheme.Text, key, c, o.now())
			})
			if err != nil {
				return err
			}
			add(it.Address, target.Address, r)
			if r.Outcome == sign.Verified {
				s.protect(target)
			}
		}
	}
	for _, target := range targets {
		if len(tried) > 0 && !tried[target] {
			add("", target.Address, sign.Result{Outcome: sign.Missing, Because: fmt.Sprintf("no signature (%s) lies beside it", rule.Item.Pattern)})
		}
	}
	return nil
}

// nearest picks, of what a signature may be of, that which lies nearest to it:
// in a download that holds several bundles, each has its own.
func nearest(sig *Item, targets []*Item) []*Item {
	levels := func(it *Item) []string { return strings.Split(path.Dir(globPath(it.Address)), "/") }
	from := levels(sig)
	best := -1
	var out []*Item
	for _, t := range targets {
		n := 0
		for to := levels(t); n < len(from) && n < len(to) && from[n] == to[n]; {
			n++
		}
		if n > best {
			best, out = n, nil
		}
		if n == best {
			out = append(out, t)
		}
	}
	return out
}

// signedBy lists what a rule says is signed.
func (s *Survey) signedBy(rule *rulebook.SignatureRule) []*Item {
	var out []*Item
	switch rule.Of.Text {
	case "package":
		if root := s.Root(); root != nil {
			out = append(out, root)
		}
	case "manifest", "checksums":
		for _, it := range s.Items {
			if it.Role == rule.Of.Text {
				out = append(out, it)
			}
		}
	default:
		out = s.matching(rule.OfGlob().Match)
	}
	return out
}

// protect marks what a signed manifest, or the manifests of a signed package,
// say.
func (s *Survey) protect(target *Item) {
	for _, it := range s.Items {
		for i, w := range it.Witnesses {
			if w.Kind != fact.Manifest || w.Name != target.Address && target != s.Root() {
				continue
			}
			for _, c := range it.Witnesses[i].Claims {
				for k := range c {
					c[k].Protected = true
				}
			}
		}
	}
}

func (s *Survey) tell(item, of string, r sign.Result) {
	if item == "" {
		item = s.Name
	}
	p := archive.Problem{Item: item, Class: BadSignature, What: fmt.Sprintf("signature of %s: %s: %s", of, r.Outcome, r.Because)}
	switch r.Outcome {
	case sign.Verified:
		return
	case sign.NoKey:
		p.Class, p.Advice = archive.Note, "put the maker's public key into the kit's keys/"
	case sign.Missing:
		p.Advice = "get the signature from the maker"
	case sign.Partial:
		p.Advice = "ask the maker for one whose signature covers all of it"
	case sign.Unknown:
		p.Advice = "find out who signed it, and put that key into keys/ only when the maker vouches for it"
	case sign.NotYet:
		p.Advice = "look at this machine's clock; if it is right, ask the maker"
	case sign.Expired:
		p.Advice = "ask the maker for a package that is signed with a key that still holds"
	default:
		p.Advice = "do not install it; download it again from the maker"
	}
	s.problem(item, p)
}

// verifyImage verifies the signatures that an image carries, as far as the kit
// has the keys that they name.
func (s *Survey) verifyImage(ctx context.Context, o Options, it *Item) error {
	keys := map[string]*sign.Key{}
	for _, sig := range it.Image.Signatures {
		key, err := o.Keys(sig.KeyHint)
		if err != nil {
			return err
		}
		if key == nil && s.Entry != nil && s.Entry.Signature != nil && s.Entry.Signature.Of.Text == "image" {
			if key, err = o.Keys(s.Entry.Signature.Key.Text); err != nil {
				return err
			}
		}
		keys[sig.Name] = key
	}
	verify := func(c *archive.Content) {
		for _, sig := range it.Image.Signatures {
			signed, _, _ := strings.Cut(sig.Name, "/")
			of := it.Address + "::" + signed
			r := sign.Result{Outcome: sign.NoKey, Because: fmt.Sprintf("the kit has no key %s in keys/", sig.KeyHint)}
			if key := keys[sig.Name]; key != nil {
				r = verifyOver(sig, key, c, o.now())
			}
			src := sig.Source
			src.File = it.Address
			it.Signed = append(it.Signed, Signed{Item: it.Address, Of: of, Config: sig.Config, Result: r, Source: src, Over: sig.Over, Weak: strings.HasPrefix(sig.Algo, "sha1")})
			s.tell(it.Address, of, r)
			if r.Outcome == sign.Verified {
				it.protect(sig.Over)
			}
		}
	}
	if !slices.ContainsFunc(it.Image.Signatures, func(sig image.Signature) bool { return keys[sig.Name] != nil }) {
		verify(nil)
		return nil
	}
	return s.content(ctx, o, it, verify)
}

var signHashes = map[string]crypto.Hash{"sha1": crypto.SHA1, "sha256": crypto.SHA256, "sha384": crypto.SHA384, "sha512": crypto.SHA512}

func verifyOver(sig image.Signature, key *sign.Key, c *archive.Content, now time.Time) sign.Result {
	name, _, _ := strings.Cut(sig.Algo, ",")
	h, ok := signHashes[name]
	if !ok {
		return sign.Result{Outcome: sign.Unread, Because: fmt.Sprintf("its algorithm %q is not known", sig.Algo)}
	}
	w := h.New()
	for _, over := range sig.Over {
		if n, err := io.Copy(w, c.Reader(over.From, over.To-over.From)); err != nil || n < over.To-over.From {
			return sign.Result{Outcome: sign.Failed, Because: "what it signs is not all there"}
		}
	}
	r := sign.VerifySum(h, w.Sum(nil), sig.Value, sig.PSS, key, now)
	if r.Outcome == sign.Verified && len(sig.Uncovered) > 0 {
		r.Outcome, r.Because = sign.Partial, fmt.Sprintf("%s; it does not cover %s, which anybody could have put there", r.Because, strings.Join(sig.Uncovered, ", "))
	}
	return r
}

// protect marks the facts of an image that lie in stretches that a signature
// covers.
func (it *Item) protect(over []digest.Stretch) {
	mark := func(facts []fact.Fact) {
		for i := range facts {
			for _, o := range over {
				if f := facts[i].Source; f.Size > 0 && o.From <= f.Offset && f.Offset+f.Size <= o.To {
					facts[i].Protected = true
				}
			}
		}
	}
	mark(it.Image.Facts)
	for i := range it.Image.Configs {
		mark(it.Image.Configs[i].Facts)
	}
	for _, w := range it.Witnesses {
		if w.Kind == fact.Header {
			for _, c := range w.Claims {
				mark(c)
			}
		}
	}
}

// content gives an item's content for random access: the text that was kept,
// else by going through the package once more.
func (s *Survey) content(ctx context.Context, o Options, it *Item, use func(*archive.Content)) error {
	if it.text != nil {
		use(archive.MemoryWithin(it.Address, it.text.data, o.Limits))
		return nil
	}
	return archive.Walk(ctx, s.Path, o.Limits, &fetch{address: it.Address, use: use})
}

// fetch picks one item out of a walk.
type fetch struct {
	address string
	use     func(*archive.Content)
}

func (f *fetch) Report(archive.Problem) {}

func (f *fetch) Begin(a *archive.Item, _ []byte) archive.Sink {
	if a.Address != f.address {
		return nothing{}
	}
	return &fetched{f: f}
}

type fetched struct {
	nothing
	f *fetch
}

func (x *fetched) Keep() bool { return true }

func (x *fetched) End(c *archive.Content, _ []archive.Problem) error {
	if x.f.use != nil && c.Readable() {
		x.f.use(c)
		x.f.use = nil
	}
	return nil
}

func (o Options) now() time.Time {
	if o.Now.IsZero() {
		return time.Now()
	}
	return o.Now
}
