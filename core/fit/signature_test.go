package fit

import (
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/rulebook"
	"fitcheck/core/sign"
	"fitcheck/core/survey"
)

// A signature that the rulebook expects decides like any other check: only one
// that verifies lets a package fit.
func TestExpectedSignature(t *testing.T) {
	const manifest = "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\n"
	maker := ed25519.NewKeyFromSeed([]byte(strings.Repeat("m", 32)))
	good := string(ed25519.Sign(maker, []byte(manifest)))
	for name, c := range map[string]struct {
		sig       string
		noKey     bool
		quick     bool
		want      Outcome
		because   string
		adviceHas string
	}{
		"verified":  {sig: good, want: Fits},
		"failed":    {sig: string(ed25519.Sign(maker, []byte("something else"))), want: Misfit, adviceHas: "do not install it"},
		"missing":   {want: Unsettled, because: "there is none", adviceHas: "get the signature"},
		"no key":    {sig: good, noKey: true, want: Unsettled, because: "no key", adviceHas: "keys/"},
		"not asked": {sig: good, quick: true, want: Unsettled, because: "was not verified", adviceHas: "-quick"},
	} {
		t.Run(name, func(t *testing.T) {
			s := scene{manifest: manifest, files: map[string]string{}}
			if c.sig != "" {
				s.files["m.sig"] = c.sig
			}
			p := filepath.Join(t.TempDir(), "qm-8.4.2.zip")
			require.NoError(t, os.WriteFile(p, s.zip(t), 0o644))
			rb, err := rulebook.Read("qm.yaml", []byte(strings.Replace(testRules, "    file: '^qm-", "    signature: {item: '**/m.sig', of: manifest, key: maker}\n    file: '^qm-", 1)))
			require.NoError(t, err)
			d, err := device.Read("cab.yaml", []byte(testDevice))
			require.NoError(t, err)
			o := survey.Options{Limits: archive.DefaultLimits(), Rulebooks: []*rulebook.Rulebook{rb}, Quick: c.quick, Keys: func(asked string) (*sign.Key, error) {
				if c.noKey || asked != "maker" {
					return nil, nil
				}
				der, err := x509.MarshalPKIXPublicKey(maker.Public())
				require.NoError(t, err)
				return sign.ReadKey("keys/maker.pem", pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
			}}
			sv, err := survey.Run(context.Background(), p, o)
			require.NoError(t, err)
			v := Match(d, rb, sv, Options{})
			if c.quick {
				assert.NotEqual(t, Fits, v.Verdict, dump(v))
			} else {
				assert.Equal(t, c.want, v.Verdict, dump(v))
			}
			all := find(v, "signature")
			require.Len(t, all, 1, dump(v))
			assert.Equal(t, c.want, all[0].Outcome)
			assert.Contains(t, all[0].Because, c.because)
			assert.Contains(t, all[0].Advice, c.adviceHas)
			sides := map[string]bool{}
			for _, x := range all[0].Sources {
				sides[x.Side] = true
				assert.NotEmpty(t, x.Source.Where())
			}
			assert.True(t, sides[OfRule], "who is to have signed is the rulebook's word")
		})
	}
}

// An image's own signature is expected only where the rulebook says so.
func TestExpectedImageSignature(t *testing.T) {
	s := scene{rules: []string{"    file: '^qm-", "    signature: {of: image, key: maker}\n    file: '^qm-"}, want: Unsettled, check: "signature/main", because: "carries none"}
	s.judge(t)
}
