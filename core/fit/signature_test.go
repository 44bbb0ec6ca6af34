package fit

import (
	"cmp"
	"context"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/pem"
	"fmt"
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
	"fitcheck/demo"
)

// A signature that the rulebook expects decides like any other check: only one
// that verifies lets a package fit.
func TestExpectedSignature(t *testing.T) {
	manifest := fmt.Sprintf("[QM-8T]\nmain a.img 8.4.2 revs=A1,A2 sha256=%x\n", sha256.Sum256(uimage(arm, kernel, "QM-8T 8.4.2", 900)))
	silent := "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\n"
	maker := ed25519.NewKeyFromSeed([]byte(strings.Repeat("m", 32)))
	good := string(ed25519.Sign(maker, []byte(manifest)))
	for name, c := range map[string]struct {
		sig       string
		manifest  string
		noKey     bool
		quick     bool
		want      Outcome
		because   string
		adviceHas string
	}{
		"verified":  {sig: good, want: Fits},
		"silent":    {manifest: silent, sig: string(ed25519.Sign(maker, []byte(silent))), want: Unsettled, because: "gives no digest of this image", adviceHas: "SHA-256"},
		"failed":    {sig: string(ed25519.Sign(maker, []byte("something else"))), want: Misfit, adviceHas: "do not install it"},
		"missing":   {want: Unsettled, because: "there is none", adviceHas: "get the signature"},
		"no key":    {sig: good, noKey: true, want: Unsettled, because: "no key", adviceHas: "keys/"},
		"not asked": {sig: good, quick: true, want: Unsettled, because: "was not verified", adviceHas: "-quick"},
	} {
		t.Run(name, func(t *testing.T) {
			s := scene{manifest: cmp.Or(c.manifest, manifest), files: map[string]string{}}
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
			v := Match(d, Only(rb), sv, Options{})
			record(name, v)
			if c.quick {
				assert.NotEqual(t, Fits, v.Outcome, dump(v))
			} else {
				assert.Equal(t, c.want, v.Outcome, dump(v))
			}
			all := find(v, "signature")
			if len(all) == 2 { // of the manifest, and of the image by it
				assert.Equal(t, Fits, all[0].Outcome)
				all = all[1:]
			}
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

// Images of a FIT may be signed one by one; those that the configuration of
// this device starts must all be, or the signature of another one would speak
// for them.
func TestImagesSignedOneByOne(t *testing.T) {
	maker, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	der, err := x509.MarshalPKIXPublicKey(maker.Public())
	require.NoError(t, err)
	part := func(name, text string, signed bool) demo.Node {
		sum := sha256.Sum256([]byte(text))
		n := demo.Node{Name: name, Props: []demo.Prop{{Name: "data", Value: []byte(text)}, {Name: "type", Value: "kernel"}, {Name: "arch", Value: "arm"}, {Name: "os", Value: "linux"}},
			Children: []demo.Node{{Name: "hash-1", Props: []demo.Prop{{Name: "algo", Value: "sha256"}, {Name: "value", Value: sum[:]}}}}}
		if signed {
			value, err := rsa.SignPKCS1v15(rand.Reader, maker, crypto.SHA256, sum[:])
			require.NoError(t, err)
			n.Children = append(n.Children, demo.Node{Name: "signature-1", Props: []demo.Prop{{Name: "algo", Value: "sha256,rsa2048"}, {Name: "key-name-hint", Value: "maker"}, {Name: "value", Value: value}}})
		}
		return n
	}
	for name, c := range map[string]struct {
		kernel, ramdisk bool
		noConfigs       bool
		want            Outcome
		because         string
	}{
		"both":                             {kernel: true, ramdisk: true, want: Fits},
		"one of two":                       {kernel: true, want: Unsettled, because: "ramdisk-1 is not signed"},
		"the other":                        {ramdisk: true, want: Unsettled, because: "kernel-1 is not signed"},
		"none at all":                      {want: Unsettled, because: "carries none"},
		"one of two, and no configuration": {kernel: true, noConfigs: true, want: Unsettled, because: "ramdisk-1 is not signed"},
	} {
		t.Run(name, func(t *testing.T) {
			configs := demo.Node{Name: "configurations", Props: []demo.Prop{{Name: "default", Value: "conf-1"}}, Children: []demo.Node{{Name: "conf-1", Props: []demo.Prop{
				{Name: "compatible", Value: "quillmere,qm8t-a"}, {Name: "kernel", Value: "kernel-1"}, {Name: "ramdisk", Value: "ramdisk-1"}}}}}
			if c.noConfigs {
				configs = demo.Node{Name: "configurations"}
			}
			img := demo.Tree(17, demo.Node{Children: []demo.Node{
				{Name: "images", Children: []demo.Node{part("kernel-1", "the kernel", c.kernel), part("ramdisk-1", "the files", c.ramdisk)}}, configs}})
			p := filepath.Join(t.TempDir(), "qm-8.4.2.zip")
			s := scene{files: map[string]string{"a.img": string(img)}}
			require.NoError(t, os.WriteFile(p, s.zip(t), 0o644))
			rb, err := rulebook.Read("qm.yaml", []byte(strings.Replace(testRules, "    file: '^qm-", "    signature: {of: image, key: maker}\n    file: '^qm-", 1)))
			require.NoError(t, err)
			d, err := device.Read("cab.yaml", []byte(testDevice))
			require.NoError(t, err)
			sv, err := survey.Run(context.Background(), p, survey.Options{Limits: archive.DefaultLimits(), Rulebooks: []*rulebook.Rulebook{rb}, Keys: func(string) (*sign.Key, error) {
				return sign.ReadKey("keys/maker.pem", pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
			}})
			require.NoError(t, err)
			v := Match(d, Only(rb), sv, Options{})
			record(name, v)
			worst, because := Fits, ""
			for _, check := range find(v, "signature") {
				if check.Outcome != Fits {
					worst = check.Outcome
				}
				because += check.Because + "\n"
			}
			assert.Equal(t, c.want, worst, dump(v))
			assert.Contains(t, because, c.because)
			assert.Equal(t, c.want, v.Outcome, dump(v))
		})
	}
}
