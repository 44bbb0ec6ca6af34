package sign

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"io"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/smallstep/pkcs7"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type text string

func (t text) Reader(offset, size int64) io.Reader {
	return io.NewSectionReader(strings.NewReader(string(t)), offset, size)
}
func (t text) Size() int64 { return int64(len(t)) }

var (
	now     = time.Date(2026, 11, 25, 3, 0, 0, 0, time.UTC)
	content = text("QM-8T 8.4.2 boot.bin\nQM-8T 8.4.2 main.img\n")
)

func pemOf(t *testing.T, public any) []byte {
	der, err := x509.MarshalPKIXPublicKey(public)
	require.NoError(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})
}

// certificate makes one that holds for six years and ends at a time.
func certificate(t *testing.T, key crypto.Signer, name string, parent *x509.Certificate, by crypto.Signer, until time.Time) *x509.Certificate {
	tpl := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: name}, NotBefore: until.AddDate(-6, 0, 0), NotAfter: until, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	if parent == nil {
		parent = tpl
	}
	der, err := x509.CreateCertificate(rand.Reader, tpl, parent, key.Public(), by)
	require.NoError(t, err)
	c, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return c
}

func certPEM(c *x509.Certificate) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
}

func key(t *testing.T, data []byte) *Key {
	k, err := ReadKey("keys/k.pem", data)
	require.NoError(t, err)
	return k
}

// Every byte of a signature, and every byte of what it signs, counts.
func everyByte(t *testing.T, name string, sig []byte, scheme string, k *Key, skip func(i int) bool) {
	t.Helper()
	r := Verify(sig, scheme, k, content, now)
	require.Equal(t, Verified, r.Outcome, "%s: %s", name, r.Because)
	for i := range sig {
		bad := bytes.Clone(sig)
		bad[i] ^= 0x01
		if skip != nil && skip(i) {
			continue
		}
		assert.NotEqual(t, Verified, Verify(bad, scheme, k, content, now).Outcome, "%s: byte %d of the signature", name, i)
	}
	for i := range content {
		bad := []byte(content)
		bad[i] ^= 0x01
		assert.Equal(t, Failed, Verify(sig, scheme, k, text(bad), now).Outcome, "%s: byte %d of the content", name, i)
	}
}

func TestRawSignatures(t *testing.T) {
	sum := sha256.Sum256([]byte(content))
	rk, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	ek, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	edPub, edKey, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	v15, err := rsa.SignPKCS1v15(rand.Reader, rk, crypto.SHA256, sum[:])
	require.NoError(t, err)
	pss, err := rsa.SignPSS(rand.Reader, rk, crypto.SHA256, sum[:], nil)
	require.NoError(t, err)
	ec, err := ecdsa.SignASN1(rand.Reader, ek, sum[:])
	require.NoError(t, err)
	r, s, err := ecdsa.Sign(rand.Reader, ek, sum[:])
	require.NoError(t, err)
	plain := append(r.FillBytes(make([]byte, 32)), s.FillBytes(make([]byte, 32))...)
	rsaKey, ecKey, edKeyFile := key(t, pemOf(t, &rk.PublicKey)), key(t, pemOf(t, &ek.PublicKey)), key(t, pemOf(t, edPub))
	everyByte(t, "RSA", v15, "", rsaKey, nil)
	everyByte(t, "RSA-PSS", pss, "rsa-pss-sha256", rsaKey, nil)
	everyByte(t, "ECDSA", ec, "", ecKey, nil)
	everyByte(t, "ECDSA, plain", plain, "", ecKey, nil)
	everyByte(t, "Ed25519", ed25519.Sign(edKey, []byte(content)), "", edKeyFile, nil)

	// The same in base64 and as PEM.
	assert.Equal(t, Verified, Verify([]byte(base64.StdEncoding.EncodeToString(v15)+"\n"), "", rsaKey, content, now).Outcome)
	assert.Equal(t, Verified, Verify(pem.EncodeToMemory(&pem.Block{Type: "SIGNATURE", Bytes: v15}), "", rsaKey, content, now).Outcome)

	// A scheme that is not what was signed by, and a key of another kind.
	assert.Equal(t, Failed, Verify(v15, "rsa-pss-sha256", rsaKey, content, now).Outcome)
	assert.Equal(t, Failed, Verify(v15, "rsa-sha512", rsaKey, content, now).Outcome)
	assert.Equal(t, NoKey, Verify(v15, "rsa-sha256", edKeyFile, content, now).Outcome)
	assert.Equal(t, Unread, Verify(v15, "rsa-md5", rsaKey, content, now).Outcome)

	// A certificate in place of a key: as long as it holds.
	good := certificate(t, rk, "Quillmere", nil, rk, now.AddDate(1, 0, 0))
	ended := certificate(t, rk, "Quillmere", nil, rk, now.AddDate(0, 0, -1))
	assert.Equal(t, Verified, Verify(v15, "", key(t, certPEM(good)), content, now).Outcome)
	res := Verify(v15, "", key(t, certPEM(ended)), content, now)
	assert.Equal(t, Expired, res.Outcome)
	assert.Contains(t, res.Because, "2026-11-24")
	res = Verify(v15, "", key(t, certPEM(certificate(t, rk, "Quillmere", nil, rk, now.AddDate(7, 0, 0)))), content, now)
	assert.Equal(t, NotYet, res.Outcome)
	assert.Contains(t, res.Because, "2027-11-25")
}

func TestCMS(t *testing.T) {
	ca, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	signer, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	caCert := certificate(t, ca, "Quillmere CA", nil, ca, now.AddDate(5, 0, 0))
	make := func(until time.Time) []byte {
		cert := certificate(t, signer, "Quillmere releases", caCert, ca, until)
		sd, err := pkcs7.NewSignedData([]byte(content))
		require.NoError(t, err)
		sd.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
		require.NoError(t, sd.SignWithoutAttr(cert, signer, pkcs7.SignerInfoConfig{}))
		sd.Detach()
		der, err := sd.Finish()
		require.NoError(t, err)
		return der
	}
	sig := make(now.AddDate(1, 0, 0))
	k := key(t, certPEM(caCert))
	r := Verify(sig, "", k, content, now)
	require.Equal(t, Verified, r.Outcome, r.Because)
	assert.Contains(t, r.Signer, "Quillmere releases")
	for i := range content {
		bad := []byte(content)
		bad[i] ^= 1
		assert.Equal(t, Failed, Verify(sig, "", k, text(bad), now).Outcome)
	}
	for i := len(sig) - 256; i < len(sig); i++ { // the signature value itself
		bad := bytes.Clone(sig)
		bad[i] ^= 1
		assert.NotEqual(t, Verified, Verify(bad, "cms", k, content, now).Outcome, "byte %d", i)
	}
	other, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	stranger := certificate(t, other, "Somebody", nil, other, now.AddDate(1, 0, 0))
	assert.Equal(t, Unknown, Verify(sig, "", key(t, certPEM(stranger)), content, now).Outcome)
	assert.Equal(t, Expired, Verify(make(now.AddDate(0, 0, -1)), "", k, content, now).Outcome)
	assert.Equal(t, NotYet, Verify(make(now.AddDate(7, 0, 0)), "", k, content, now).Outcome)
	assert.Equal(t, Unread, Verify([]byte("nothing of the kind"), "cms", k, content, now).Outcome)
}

func TestOpenPGP(t *testing.T) {
	config := &packet.Config{Time: func() time.Time { return now.AddDate(0, -1, 0) }, Algorithm: packet.PubKeyAlgoEdDSA}
	maker, err := openpgp.NewEntity("Quillmere", "", "releases@quillmere.example", config)
	require.NoError(t, err)
	export := func(e *openpgp.Entity) *Key {
		var b bytes.Buffer
		w, err := armor.Encode(&b, openpgp.PublicKeyType, nil)
		require.NoError(t, err)
		require.NoError(t, e.Serialize(w))
		require.NoError(t, w.Close())
		return key(t, b.Bytes())
	}
	k := export(maker)
	var binary, armored, clear bytes.Buffer
	require.NoError(t, openpgp.DetachSign(&binary, maker, strings.NewReader(string(content)), config))
	require.NoError(t, openpgp.ArmoredDetachSign(&armored, maker, strings.NewReader(string(content)), config))
	w, err := clearsign.Encode(&clear, maker.PrivateKey, config)
	require.NoError(t, err)
	_, err = w.Write([]byte(content))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	assert.Equal(t, Verified, Verify(armored.Bytes(), "", k, content, now).Outcome)
	r := Verify(binary.Bytes(), "openpgp", k, content, now)
	require.Equal(t, Verified, r.Outcome, r.Because)
	assert.Contains(t, r.Signer, "Quillmere")
	for i := range content {
		bad := []byte(content)
		bad[i] ^= 1
		assert.Equal(t, Failed, Verify(binary.Bytes(), "openpgp", k, text(bad), now).Outcome)
	}
	tolerated := 0
	for i := binary.Len() - 64; i < binary.Len(); i++ {
		bad := bytes.Clone(binary.Bytes())
		bad[i] ^= 1
		if Verify(bad, "openpgp", k, content, now).Outcome == Verified {
			tolerated++
		}
	}
	assert.LessOrEqual(t, tolerated, 2, "only the length in bits that stands before each number may say something else")

	// Clear-signed: the text is inside, and its lines keep their numbers.
	assert.Equal(t, Verified, Verify(clear.Bytes(), "", k, text(clear.String()), now).Outcome)
	assert.Equal(t, Failed, Verify(bytes.Replace(clear.Bytes(), []byte("8.4.2 main"), []byte("8.4.3 main"), 1), "", k, content, now).Outcome)
	plain := ClearText(clear.Bytes())
	assert.Equal(t, strings.Count(clear.String(), "\n"), bytes.Count(plain, []byte("\n")))
	assert.Equal(t, strings.TrimSpace(string(content)), strings.TrimSpace(string(plain)))
	assert.Nil(t, ClearText([]byte(content)))

	// The key need not be armoured, and may be one of several.
	var ring bytes.Buffer
	require.NoError(t, maker.Serialize(&ring))
	assert.Equal(t, Verified, Verify(binary.Bytes(), "", key(t, ring.Bytes()), content, now).Outcome)

	stranger, err := openpgp.NewEntity("Somebody", "", "x@example", config)
	require.NoError(t, err)
	assert.Equal(t, Unknown, Verify(binary.Bytes(), "", export(stranger), content, now).Outcome)
	require.NoError(t, stranger.Serialize(&ring))
	assert.Equal(t, Verified, Verify(binary.Bytes(), "", key(t, ring.Bytes()), content, now).Outcome)
	for _, nobodys := range []string{"", "\n", "words", "-----BEGIN PGP SIGNATURE-----\n\n-----END PGP SIGNATURE-----\n", "-----BEGIN PGP SIGNATURE-----\n\n!\n", ring.String()} {
		assert.Equal(t, Unread, Verify([]byte(nobodys), "openpgp", k, content, now).Outcome, "%q", nobodys)
	}
	assert.Equal(t, NoKey, Verify(binary.Bytes(), "openpgp", &Key{File: "k"}, content, now).Outcome)
	require.NoError(t, maker.RevokeKey(packet.KeyCompromised, "lost", config))
	r = Verify(binary.Bytes(), "", export(maker), content, now)
	assert.Equal(t, Failed, r.Outcome)
	assert.Equal(t, "the key that signed it was revoked", r.Because)

	short := &packet.Config{Time: config.Time, Algorithm: packet.PubKeyAlgoEdDSA, KeyLifetimeSecs: 24 * 3600}
	gone, err := openpgp.NewEntity("Quillmere", "", "old@quillmere.example", short)
	require.NoError(t, err)
	var old bytes.Buffer
	require.NoError(t, openpgp.DetachSign(&old, gone, strings.NewReader(string(content)), short))
	assert.Equal(t, Expired, Verify(old.Bytes(), "", export(gone), content, now).Outcome)
}

func TestReadKey(t *testing.T) {
	rk, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	der, err := x509.MarshalPKIXPublicKey(&rk.PublicKey)
	require.NoError(t, err)
	_, err = ReadKey("k", der)
	assert.NoError(t, err, "DER, too")
	for name, c := range map[string]struct {
		data []byte
		says string
	}{
		"nothing":       {nil, "neither a public key"},
		"text":          {[]byte("hello"), "neither a public key"},
		"private key":   {pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY", Bytes: x509.MarshalPKCS1PrivateKey(rk)}), "private key"},
		"broken PEM":    {pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der[:40]}), "cannot be read"},
		"other PEM":     {pem.EncodeToMemory(&pem.Block{Type: "X", Bytes: der}), "is no key"},
		"broken armour": {[]byte("-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nxxxx\n-----END PGP PUBLIC KEY BLOCK-----\n"), "OpenPGP"},
	} {
		_, err := ReadKey("keys/k.pem", c.data)
		if assert.Error(t, err, name) {
			assert.Contains(t, err.Error(), "keys/k.pem", name)
			assert.Contains(t, err.Error(), c.says, name)
		}
	}
}

func FuzzVerify(f *testing.F) {
	rk, _ := rsa.GenerateKey(rand.Reader, 2048)
	der, _ := x509.MarshalPKIXPublicKey(&rk.PublicKey)
	k, err := ReadKey("k", der)
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte("-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\nx\n-----BEGIN PGP SIGNATURE-----\n\nxxxx\n-----END PGP SIGNATURE-----\n"))
	f.Add([]byte{0x30, 0x10, 6, 9, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 7, 2, 0, 0, 0, 0, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, scheme := range []string{"", "cms", "openpgp", "rsa-pss-sha256"} {
			if r := Verify(data, scheme, k, content, now); r.Outcome == Verified {
				t.Fatalf("%x verifies", data)
			}
		}
		ClearText(data)
		ReadKey("k", data)
	})
}

// Without a scheme a signature is read by what it and the key are.
func TestGuess(t *testing.T) {
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	ecKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	edKey, _, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	cms := append([]byte{0x30, 0x82, 1, 2, 0x06, 0x09}, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x02)
	pad := func(b []byte, n int) []byte { return append(bytes.Clone(b), make([]byte, n-len(b))...) }
	for _, c := range []struct {
		name       string
		whole, sig []byte
		key        any
		want       string
	}{
		{"RSA", []byte("x"), []byte("x"), &rsaKey.PublicKey, "rsa-sha256"}, {"ECDSA", []byte("x"), []byte("x"), &ecKey.PublicKey, "ecdsa-sha256"}, {"Ed25519", []byte("x"), []byte("x"), edKey, "ed25519"},
		{"CMS of 21 bytes", nil, pad(cms, 21), &rsaKey.PublicKey, "cms"}, {"20 bytes are none", nil, pad(cms, 20), &rsaKey.PublicKey, "rsa-sha256"}, {"no sequence", nil, append([]byte{0x31}, pad(cms, 30)[1:]...), &rsaKey.PublicKey, "rsa-sha256"},
		{"the name of CMS further on", nil, append([]byte{0x30, 1, 2, 3, 4, 5}, pad(cms, 30)...), &rsaKey.PublicKey, "rsa-sha256"},
		{"armoured", []byte("-----BEGIN PGP SIGNATURE-----"), nil, &rsaKey.PublicKey, "openpgp"}, {"armoured further on", append(make([]byte, 60), "BEGIN PGP"...), nil, &rsaKey.PublicKey, "rsa-sha256"}, {"armoured just within", append(make([]byte, 55), "BEGIN PGP"...), nil, &rsaKey.PublicKey, "openpgp"},
	} {
		assert.Equal(t, c.want, guess(c.whole, c.sig, &Key{public: c.key}), c.name)
	}
	assert.Equal(t, "openpgp", guess(nil, pad(cms, 30), &Key{pgp: openpgp.EntityList{nil}}), "the key is one of OpenPGP")
	for in, want := range map[string]string{"AAECAwQFBgcICQoL": "\x00\x01\x02\x03\x04\x05\x06\x07\x08\x09\x0a\x0b", "AAECAwQF\nBgcICQoL\r\n": "\x00\x01\x02\x03\x04\x05\x06\x07\x08\x09\x0a\x0b", "AAECAwQFBgcI": "AAECAwQFBgcI", "AAECAwQFBgcICQo": "AAECAwQFBgcICQo", "AAECAwQFBgcICQ!!": "AAECAwQFBgcICQ!!"} {
		assert.Equal(t, want, string(unwrap([]byte(in))), in)
	}
}

// A text is read without its armour, and every line keeps its number; what is none has none.
func TestClearText(t *testing.T) {
	for _, c := range []string{"", "text", "-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\ntext\n", "x-----BEGIN PGP SIGNED MESSAGE-----\n"} {
		assert.Nil(t, ClearText([]byte(c)), c)
	}
	entity, err := openpgp.NewEntity("Tram", "", "tram@example.org", nil)
	require.NoError(t, err)
	for in, want := range map[string]string{"one\ntwo\n": "\n\n\none\ntwo\n", "- dash\n\nlast": "\n\n\n- dash\n\nlast\n"} {
		var b bytes.Buffer
		w, err := clearsign.Encode(&b, entity.PrivateKey, nil)
		require.NoError(t, err)
		_, err = w.Write([]byte(in))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		got := string(ClearText(b.Bytes()))
		assert.True(t, strings.HasPrefix(got, want), "%q", got)
		assert.Empty(t, strings.Trim(strings.TrimPrefix(got, want), "\n"), "what signs it is blank: %q", got)
		assert.Equal(t, strings.Count(b.String(), "\n"), strings.Count(got, "\n"), "every line keeps its number")
	}
}

// Of a clear-signed file only the text in it is signed, and that is what is read of it: nothing that anybody could have put
// around it, nor another content beside which it lies.
func TestClearSignedCoversItsTextOnly(t *testing.T) {
	config := &packet.Config{Time: func() time.Time { return now.AddDate(0, -1, 0) }, Algorithm: packet.PubKeyAlgoEdDSA}
	maker, err := openpgp.NewEntity("Quillmere", "", "releases@quillmere.example", config)
	require.NoError(t, err)
	k := &Key{File: "keys/k.asc", pgp: openpgp.EntityList{maker}}
	signed := func(text string) string {
		var b bytes.Buffer
		w, err := clearsign.Encode(&b, maker.PrivateKey, config)
		require.NoError(t, err)
		_, err = w.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.String()
	}
	const own = "aa  boot.bin\nbb  main.img\n"
	genuine := signed(own)
	forged := strings.Replace(genuine, "bb  main", "cc  main", 1)
	_, body, _ := strings.Cut(genuine, "\n\n")
	for name, c := range map[string]struct {
		file, of string // "" is the file itself
		outcome  Outcome
		reads    string // of the file, without blank lines; "" for all of it
	}{
		"itself": {genuine, "", Verified, own},
		"with ends of lines as of another system":      {strings.ReplaceAll(genuine, "\n", "\r\n"), "", Verified, own},
		"with a mark before it":                        {"\ufeff" + genuine, "", Verified, own},
		"its text":                                     {genuine, own, Verified, own},
		"its text, with blanks at ends of lines":       {genuine, "aa  boot.bin  \r\nbb  main.img\r\n\r\n", Verified, own},
		"another text":                                 {genuine, "cc  main.img\n", Failed, own},
		"nothing":                                      {genuine, "\n", Failed, own},
		"the same file, and more":                      {genuine, genuine + "cc  main.img\n", Failed, own},
		"lines before it":                              {"cc  main.img\n" + genuine, "", Partial, ""},
		"lines behind it":                              {genuine + "cc  main.img\n", "", Partial, own},
		"a forged one before it":                       {forged + genuine, "", Failed, "aa  boot.bin\ncc  main.img\n"},
		"a forged one before it, with a mark":          {"\ufeff" + forged + genuine, "", Failed, "aa  boot.bin\ncc  main.img\n"},
		"a second one behind it":                       {genuine + signed("dd  poe.bin\n"), "", Partial, own},
		"a forged one behind it":                       {genuine + forged, "", Partial, own},
		"blanks behind a line that looks like its end": {signed("-----BEGIN PGP SIGNATURE----- \nbb  main.img\n"), "", Verified, "-----BEGIN PGP SIGNATURE-----\nbb  main.img\n"},
		"without its header":                           {"-----BEGIN PGP SIGNED MESSAGE-----\n\n" + body, "", Verified, own},
	} {
		of := c.of
		if of == "" {
			of = c.file
		}
		r := Verify([]byte(c.file), "openpgp", k, text(of), now)
		assert.Equal(t, c.outcome, r.Outcome, "%s: %s", name, r.Because)
		got := ClearText([]byte(c.file))
		if c.reads == "" {
			assert.Nil(t, got, name)
			continue
		}
		assert.Equal(t, c.reads, strings.TrimLeft(strings.TrimRight(string(got), "\n")+"\n", "\n"), name)
		assert.Equal(t, strings.Count(c.file, "\n"), strings.Count(string(got), "\n"), "%s: lines keep their numbers", name)
		if at := strings.Index(c.file, "bb  main"); at > 0 && strings.Contains(c.reads, "bb  main") {
			assert.Equal(t, strings.Count(c.file[:at], "\n"), strings.Count(string(got)[:strings.Index(string(got), "bb  main")], "\n"), name)
		}
	}
}
