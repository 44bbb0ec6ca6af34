// Package sign verifies signatures over files, by libraries: raw RSA, ECDSA
// and Ed25519 with a key or certificate, CMS (RFC 5652) and OpenPGP (RFC 9580),
// detached or clear-signed.
package sign

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	_ "crypto/sha1" // old signatures are still verified
	"crypto/sha256"
	_ "crypto/sha512"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	pgperrors "github.com/ProtonMail/go-crypto/openpgp/errors"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/smallstep/pkcs7"
)

// Outcome is how a signature came out.
type Outcome string

// The outcomes.
const (
	Verified Outcome = "verified"
	Failed   Outcome = "failed"         // it is not the signature of this content by this key
	Expired  Outcome = "expired"        // it verifies, and key, certificate or signature are past their time
	NotYet   Outcome = "not yet valid"  // it verifies, and the certificate does not hold yet
	Unknown  Outcome = "unknown signer" // somebody signed whose key is not in the kit
	Partial  Outcome = "partial"        // it verifies, and does not cover all that it stands for
	Missing  Outcome = "missing"        // it is expected, and not there
	NoKey    Outcome = "no key"         // the kit has no key to verify it with
	Unread   Outcome = "unreadable"     // it makes no sense as a signature
)

// Result is an outcome, with reasons.
type Result struct {
	Outcome Outcome
	Because string
	Signer  string // who signed, as far as the signature or key tells
}

// Content is what is signed.
type Content interface {
	Reader(offset, size int64) io.Reader
	Size() int64
}

// Schemes lists the names that a rulebook may give for scheme.
func Schemes() []string {
	out := []string{"ed25519", "cms", "openpgp"}
	for _, h := range []string{"sha1", "sha256", "sha384", "sha512"} {
		out = append(out, "rsa-"+h, "rsa-pss-"+h, "ecdsa-"+h)
	}
	slices.Sort(out)
	return out
}

var hashes = map[string]crypto.Hash{"sha1": crypto.SHA1, "sha256": crypto.SHA256, "sha384": crypto.SHA384, "sha512": crypto.SHA512}

// inMemory is how much is read into memory for schemes that cannot be fed
// piece by piece.
const inMemory = 64 << 20

// Verify verifies a signature over content. scheme is one of Schemes; "" goes
// by what the signature and the key are: RSA is PKCS #1 v1.5 over SHA-256.
func Verify(signature []byte, scheme string, key *Key, content Content, now time.Time) Result {
	sig := unwrap(signature)
	if scheme == "" {
		scheme = guess(signature, sig, key)
	}
	switch {
	case scheme == "openpgp":
		return verifyPGP(signature, key, content, now)
	case scheme == "cms":
		return verifyCMS(sig, key, content, now)
	case key.public == nil:
		return Result{NoKey, fmt.Sprintf("%s holds no key for the scheme %s", key.File, scheme), ""}
	case scheme == "ed25519":
		return verifyEd25519(sig, key, content, now)
	}
	family, name := scheme, ""
	if i := strings.LastIndexByte(scheme, '-'); i > 0 {
		family, name = scheme[:i], scheme[i+1:]
	}
	h, ok := hashes[name]
	if !ok {
		return Result{Unread, fmt.Sprintf("the scheme %q is not known", scheme), ""}
	}
	w := h.New()
	if _, err := io.Copy(w, content.Reader(0, content.Size())); err != nil {
		return Result{Unread, fmt.Sprintf("the content cannot be read: %v", err), ""}
	}
	return VerifySum(h, w.Sum(nil), sig, family == "rsa-pss", key, now)
}

// VerifySum verifies a signature over a hash value.
func VerifySum(h crypto.Hash, sum, sig []byte, pss bool, key *Key, now time.Time) Result {
	var err error
	switch k := key.public.(type) {
	case *rsa.PublicKey:
		if pss {
			err = rsa.VerifyPSS(k, h, sum, sig, nil)
		} else {
			err = rsa.VerifyPKCS1v15(k, h, sum, sig)
		}
	case *ecdsa.PublicKey:
		if !ecdsa.VerifyASN1(k, sum, sig) && !plainECDSA(k, sum, sig) {
			err = errors.New("ECDSA verification failed")
		}
	default:
		return Result{NoKey, fmt.Sprintf("%s holds no RSA or ECDSA key", key.File), ""}
	}
	if err != nil {
		return Result{Failed, fmt.Sprintf("it is not a signature of this content by the key %s", key.File), key.name()}
	}
	return key.inTime(now)
}

// plainECDSA takes a signature as the two numbers one behind the other, as
// boot loaders keep it.
func plainECDSA(k *ecdsa.PublicKey, sum, sig []byte) bool {
	n := (k.Curve.Params().BitSize + 7) / 8
	if len(sig) != 2*n {
		return false
	}
	return ecdsa.Verify(k, sum, new(big.Int).SetBytes(sig[:n]), new(big.Int).SetBytes(sig[n:]))
}

func verifyEd25519(sig []byte, key *Key, content Content, now time.Time) Result {
	k, ok := key.public.(ed25519.PublicKey)
	if !ok {
		return Result{NoKey, fmt.Sprintf("%s holds no Ed25519 key", key.File), ""}
	}
	data, res := all(content)
	if data == nil {
		return res
	}
	if !ed25519.Verify(k, data, sig) {
		return Result{Failed, fmt.Sprintf("it is not a signature of this content by the key %s", key.File), key.name()}
	}
	return key.inTime(now)
}

func all(content Content) ([]byte, Result) {
	if content.Size() > inMemory {
		return nil, Result{Unread, fmt.Sprintf("a signature of this scheme is verified over %d bytes at most, and there are %d", inMemory, content.Size()), ""}
	}
	data, err := io.ReadAll(content.Reader(0, content.Size()))
	if err != nil {
		return nil, Result{Unread, fmt.Sprintf("the content cannot be read: %v", err), ""}
	}
	if data == nil {
		data = []byte{}
	}
	return data, Result{}
}

// unwrap takes PEM or base64 off a signature.
func unwrap(b []byte) []byte {
	if block, _ := pem.Decode(b); block != nil {
		return block.Bytes
	}
	t := bytes.Map(func(r rune) rune {
		if strings.ContainsRune(" \t\r\n", r) {
			return -1
		}
		return r
	}, b)
	if len(t) >= 16 && len(t)%4 == 0 {
		if raw, err := base64.StdEncoding.DecodeString(string(t)); err == nil {
			return raw
		}
	}
	return b
}

func guess(whole, sig []byte, key *Key) string {
	switch {
	case len(key.pgp) > 0:
		return "openpgp"
	case bytes.Contains(whole[:min(64, len(whole))], []byte("BEGIN PGP")):
		return "openpgp"
	case len(sig) > 20 && sig[0] == 0x30 && bytes.Contains(sig[:20], []byte{0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x02}):
		return "cms"
	}
	switch key.public.(type) {
	case ed25519.PublicKey:
		return "ed25519"
	case *ecdsa.PublicKey:
		return "ecdsa-sha256"
	}
	return "rsa-sha256"
}

// verifyCMS verifies a detached signature (RFC 5652, section 5). The signer's
// certificate must be the kit's, or be issued by it.
func verifyCMS(sig []byte, key *Key, content Content, now time.Time) Result {
	if len(key.certs) == 0 {
		return Result{NoKey, fmt.Sprintf("%s holds no certificate, which a CMS signature is verified with", key.File), ""}
	}
	p, err := pkcs7.Parse(sig)
	if err != nil {
		return Result{Unread, "it does not read as CMS (RFC 5652)", ""}
	}
	data, res := all(content)
	if data == nil {
		return res
	}
	p.Content = data
	p.Certificates = append(p.Certificates, key.certs...)
	signer := p.GetOnlySigner()
	if signer == nil {
		return Result{Unknown, "the signer's certificate is neither in the signature nor in the kit, or there are several", ""}
	}
	name := signer.Subject.String()
	if err := p.Verify(); err != nil {
		var expired *pkcs7.SigningTimeNotValidError
		if errors.As(err, &expired) {
			return Result{Expired, fmt.Sprintf("it was made outside of the time for which %s holds", name), name}
		}
		return Result{Failed, "it is not a signature of this content", name}
	}
	known := slices.ContainsFunc(key.certs, func(c *x509Certificate) bool {
		return c.Equal(signer) || c.IsCA && signer.CheckSignatureFrom(c) == nil
	})
	switch {
	case !known:
		return Result{Unknown, fmt.Sprintf("%s signed it, whom no certificate in %s vouches for", name, key.File), name}
	case holdsAt(signer, now) != Verified:
		return Result{holdsAt(signer, now), fmt.Sprintf("the certificate of %s holds from %s to %s", name, signer.NotBefore.Format(time.DateOnly), signer.NotAfter.Format(time.DateOnly)), name}
	}
	return Result{Verified, "it verifies, and the kit knows who signed", name}
}

func verifyPGP(signature []byte, key *Key, content Content, now time.Time) Result {
	if len(key.pgp) == 0 {
		return Result{NoKey, fmt.Sprintf("%s holds no OpenPGP key", key.File), ""}
	}
	config := &packet.Config{Time: func() time.Time { return now }}
	if block, _ := clearsign.Decode(withoutMark(signature)); block != nil {
		return verifyClear(signature, key, content, config)
	}
	data := content.Reader(0, content.Size())
	if bytes.Contains(signature[:min(64, len(signature))], []byte("BEGIN PGP")) {
		block, err := armor.Decode(bytes.NewReader(signature))
		if err != nil {
			return pgpResult(nil, pgperrors.StructuralError(err.Error()), key)
		}
		if signature, err = io.ReadAll(block.Body); err != nil {
			return pgpResult(nil, pgperrors.StructuralError(err.Error()), key)
		}
	}
	if !holdsSignature(signature) { // nobody signed it
		return pgpResult(nil, pgperrors.StructuralError("no signature"), key)
	}
	signer, err := openpgp.CheckDetachedSignature(key.pgp, data, bytes.NewReader(signature), config)
	return pgpResult(signer, err, key)
}

// holdsSignature tells whether there is a signature among the packets.
func holdsSignature(packets []byte) bool {
	r := packet.NewReader(bytes.NewReader(packets))
	for {
		p, err := r.Next()
		if err != nil {
			return false
		}
		if _, ok := p.(*packet.Signature); ok {
			return true
		}
	}
}

// pgpResult tells what verifying came to by its error.
func pgpResult(signer *openpgp.Entity, err error, key *Key) Result {
	name := ""
	if signer != nil {
		if id := signer.PrimaryIdentity(); id != nil {
			name = id.Name
		}
	}
	var structural pgperrors.StructuralError
	var unsupported pgperrors.UnsupportedError
	var weak pgperrors.WeakAlgorithmError
	switch {
	case err == nil:
		return Result{Verified, "it verifies, and the kit knows who signed", name}
	case errors.Is(err, pgperrors.ErrUnknownIssuer):
		return Result{Unknown, "somebody signed it whose key is not in " + key.File, ""}
	case errors.Is(err, pgperrors.ErrKeyExpired), errors.Is(err, pgperrors.ErrSignatureExpired):
		return Result{Expired, "the key or the signature is past its time", name}
	case errors.Is(err, pgperrors.ErrKeyRevoked):
		return Result{Failed, "the key that signed it was revoked", name}
	case errors.Is(err, pgperrors.ErrSignatureOlderThanKey):
		return Result{Failed, "it is older than the key that it names", name}
	case errors.As(err, &weak):
		return Result{Failed, "it is made by an algorithm that proves nothing any more", name}
	case errors.As(err, &unsupported):
		return Result{Unread, "it is made in a way that fitcheck does not verify", name}
	case errors.As(err, &structural), errors.Is(err, io.EOF):
		return Result{Unread, "it does not read as OpenPGP (RFC 9580)", name}
	}
	return Result{Failed, "it is not a signature of this content", name}
}

// fingerprint names a key that has no other name.
func fingerprint(der []byte) string { return fmt.Sprintf("%x", sha256.Sum256(der))[:16] }
