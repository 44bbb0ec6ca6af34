package sign

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
)

type x509Certificate = x509.Certificate

// Key is a key file of a kit: a public key, certificates, or OpenPGP keys.
type Key struct {
	File   string
	public crypto.PublicKey
	certs  []*x509.Certificate
	pgp    openpgp.EntityList
	id     string
}

// ReadKey reads a key file: PEM with a public key or certificates, DER of one
// of them, or OpenPGP keys, armoured or not.
func ReadKey(file string, data []byte) (*Key, error) {
	k := &Key{File: file}
	if bytes.Contains(data, []byte("BEGIN PGP PUBLIC KEY")) {
		list, err := openpgp.ReadArmoredKeyRing(bytes.NewReader(data))
		if err != nil {
			return nil, fmt.Errorf("%s: it does not read as an OpenPGP key: %w", file, err)
		}
		k.pgp = list
		return k, nil
	}
	rest := data
	for {
		block, more := pem.Decode(rest)
		if block == nil {
			break
		}
		rest = more
		if err := k.add(block.Type, block.Bytes); err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
	}
	if k.public != nil {
		return k, nil
	}
	if list, err := openpgp.ReadKeyRing(bytes.NewReader(data)); err == nil && len(list) > 0 {
		k.pgp = list
		return k, nil
	}
	for _, kind := range []string{"CERTIFICATE", "PUBLIC KEY"} {
		if k.add(kind, data) == nil {
			return k, nil
		}
	}
	return nil, fmt.Errorf("%s: it holds neither a public key, nor a certificate, nor OpenPGP keys; give the maker's public key as PEM", file)
}

func (k *Key) add(kind string, der []byte) error {
	var public crypto.PublicKey
	var err error
	switch kind {
	case "PUBLIC KEY":
		public, err = x509.ParsePKIXPublicKey(der)
	case "RSA PUBLIC KEY":
		public, err = x509.ParsePKCS1PublicKey(der)
	case "CERTIFICATE":
		var c *x509.Certificate
		if c, err = x509.ParseCertificate(der); err == nil {
			k.certs = append(k.certs, c)
			public = c.PublicKey
		}
	case "PRIVATE KEY", "RSA PRIVATE KEY", "EC PRIVATE KEY":
		return errors.New("it holds a private key; a kit needs the public one only, and the private one has no place in it")
	default:
		return fmt.Errorf("a PEM block of the kind %q is no key", kind)
	}
	if err != nil {
		return fmt.Errorf("its %s cannot be read: %w", kind, err)
	}
	if k.public == nil {
		k.public, k.id = public, fingerprint(der)
	}
	return nil
}

// name is who the key belongs to, as far as it tells.
func (k *Key) name() string {
	if len(k.certs) > 0 {
		return k.certs[0].Subject.String()
	}
	return "key " + k.id
}

// holdsAt tells whether a certificate holds at a time.
func holdsAt(c *x509Certificate, now time.Time) Outcome {
	switch {
	case now.After(c.NotAfter):
		return Expired
	case now.Before(c.NotBefore):
		return NotYet
	}
	return Verified
}

// inTime is the result for a signature that verifies: the certificate, where
// there is one, must hold at the time.
func (k *Key) inTime(now time.Time) Result {
	if len(k.certs) > 0 {
		if out := holdsAt(k.certs[0], now); out != Verified {
			c := k.certs[0]
			return Result{out, fmt.Sprintf("it verifies, and the certificate %s holds from %s to %s", k.File, c.NotBefore.Format(time.DateOnly), c.NotAfter.Format(time.DateOnly)), k.name()}
		}
	}
	return Result{Verified, "it verifies with the kit's key", k.name()}
}
