package survey

import (
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	"fitcheck/core/sign"
)

func signer(seed byte) ed25519.PrivateKey {
	return ed25519.NewKeyFromSeed([]byte(strings.Repeat(string(rune(seed)), ed25519.SeedSize)))
}

func keyOf(t *testing.T, k ed25519.PrivateKey) *sign.Key {
	t.Helper()
	der, err := x509.MarshalPKIXPublicKey(k.Public())
	require.NoError(t, err)
	key, err := sign.ReadKey("keys/maker.pem", pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
	require.NoError(t, err)
	return key
}

// keyring answers with one key, as the kit does.
func keyring(name string, key *sign.Key) Keys {
	return func(asked string) (*sign.Key, error) {
		if asked == name {
			return key, nil
		}
		return nil, nil
	}
}

func withSignature(t *testing.T, rule string) Options {
	t.Helper()
	rb, err := rulebook.Read("q.yaml", []byte(strings.Replace(rules, "    notes:", "    signature: "+rule+"\n    notes:", 1)))
	require.NoError(t, err)
	return Options{Rulebooks: []*rulebook.Rulebook{rb}}
}

func TestSignedManifest(t *testing.T) {
	const manifest = "main a.img 8.4\n"
	maker, other := signer('m'), signer('o')
	sig := string(ed25519.Sign(maker, []byte(manifest)))
	for name, c := range map[string]struct {
		sig      string // "" for none
		keys     Keys
		outcome  sign.Outcome
		problem  string
		strength fact.Strength
	}{
		"verified":      {sig, keyring("maker", keyOf(t, maker)), sign.Verified, "", fact.Protected},
		"failed":        {string(ed25519.Sign(maker, []byte("another"))), keyring("maker", keyOf(t, maker)), sign.Failed, "do not install it", fact.Stated},
		"another's key": {string(ed25519.Sign(other, []byte(manifest))), keyring("maker", keyOf(t, maker)), sign.Failed, "do not install it", fact.Stated},
		"no key":        {sig, keyring("else", nil), sign.NoKey, "keys/", fact.Stated},
		"missing":       {"", keyring("maker", keyOf(t, maker)), sign.Missing, "get the signature", fact.Stated},
		"nonsense":      {"hello", keyring("maker", keyOf(t, maker)), sign.Unread, "", fact.Stated},
	} {
		t.Run(name, func(t *testing.T) {
			files := []file{{"m.txt", manifest}, {"a.img", "main"}}
			if c.sig != "" {
				files = append(files, file{"m.sig", c.sig})
			}
			o := withSignature(t, "{item: '**/m.sig', of: manifest, key: maker}")
			o.Keys = c.keys
			s := survey(t, o, file{"qm-8.4.zip", zipOf(files...)})
			require.Len(t, s.Signatures, 1)
			if name == "nonsense" {
				assert.Contains(t, []sign.Outcome{sign.Unread, sign.Failed}, s.Signatures[0].Outcome)
			} else {
				assert.Equal(t, c.outcome, s.Signatures[0].Outcome, s.Signatures[0].Because)
			}
			assert.NotEmpty(t, s.Signatures[0].Source.Where())
			w, ok := s.Find("qm-8.4.zip::a.img").Witness(fact.Manifest)
			require.True(t, ok)
			assert.Equal(t, c.strength, w.About(fact.Version)[0].Strength(), "what a signed manifest says is strong, nothing else")
			var advice string
			for _, p := range s.Problems {
				advice += p.Advice + "\n"
			}
			assert.Contains(t, advice, c.problem)
			if c.outcome == sign.Verified {
				assert.Empty(t, problems(s))
				assert.Equal(t, "signature", s.Find("qm-8.4.zip::m.sig").Role)
			}
		})
	}
}

// A signature may be of the checksum list, of single items or of the package
// as a whole.
func TestWhatIsSigned(t *testing.T) {
	maker := signer('m')
	list := sha("main") + "  a.img\n"
	for of, target := range map[string]string{"checksums": "qm-8.4.zip::sums.txt", "'**/a.img'": "qm-8.4.zip::a.img"} {
		content := map[string]string{"checksums": list, "'**/a.img'": "main"}[of]
		o := withSignature(t, "{item: '**/it.sig', of: "+of+", key: maker}")
		o.Keys = keyring("maker", keyOf(t, maker))
		s := survey(t, o, file{"qm-8.4.zip", zipOf(file{"m.txt", "main a.img 8.4\n"}, file{"sums.txt", list}, file{"a.img", "main"}, file{"it.sig", string(ed25519.Sign(maker, []byte(content)))})})
		require.Len(t, s.Signatures, 1, of)
		assert.Equal(t, sign.Verified, s.Signatures[0].Outcome, of)
		assert.Equal(t, target, s.Signatures[0].Of, of)
	}
}

func TestUnreadableKeyEndsTheSurvey(t *testing.T) {
	o := withSignature(t, "{item: '**/m.sig', of: manifest, key: maker}")
	o.Keys = func(string) (*sign.Key, error) { return nil, errors.New("keys/maker.pem: not a key") }
	o.Limits = archive.DefaultLimits()
	p := filepath.Join(t.TempDir(), "qm-8.4.zip")
	require.NoError(t, os.WriteFile(p, []byte(zipOf(file{"m.txt", "main a.img 8.4\n"}, file{"a.img", "main"}, file{"m.sig", "x"})), 0o644))
	_, err := Run(context.Background(), p, o)
	assert.ErrorContains(t, err, "keys/maker.pem")
}

func TestQuickVerifiesNothing(t *testing.T) {
	o := withSignature(t, "{item: '**/m.sig', of: manifest, key: maker}")
	o.Keys, o.Quick = keyring("maker", nil), true
	s := survey(t, o, file{"qm-8.4.zip", zipOf(file{"m.txt", "main a.img 8.4\n"}, file{"a.img", "main"}, file{"m.sig", "x"})})
	assert.Empty(t, s.Signatures)
}

// In a download that holds several bundles, each signature is held against
// what lies beside it, and a list without one is told.
func TestEachBundleHasItsOwnSignature(t *testing.T) {
	maker := signer(1)
	bundle := func(n string, signed bool) string {
		m := "main a.img " + n + "\n"
		files := []file{{"m.txt", m}, {"a.img", "x" + n}}
		if signed {
			files = append(files, file{"m.sig", string(ed25519.Sign(maker, []byte(m)))})
		}
		return zipOf(files...)
	}
	o := withSignature(t, "{item: '**/*.sig', of: manifest, key: maker}")
	o.Keys = keyring("maker", keyOf(t, maker))
	s := survey(t, o, file{"all.zip", zipOf(file{"one.zip", bundle("1.0", true)}, file{"two.zip", bundle("2.0", true)}, file{"three.zip", bundle("3.0", false)})})
	outcomes := map[string]sign.Outcome{}
	for _, x := range s.Signatures {
		outcomes[x.Of] = x.Outcome
	}
	root := s.Name + "::"
	assert.Equal(t, map[string]sign.Outcome{root + "one.zip::m.txt": sign.Verified, root + "two.zip::m.txt": sign.Verified, root + "three.zip::m.txt": sign.Missing}, outcomes)
}
