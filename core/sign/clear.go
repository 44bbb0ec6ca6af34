package sign

import (
	"bytes"
	"strings"

	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

// Texts that carry their signature (RFC 9580, section 7). Of such a file only the text between header and signature is
// signed: what stands before it, behind it or in a second message is anybody's.

// clearSigned is the message with which a file begins; nil where it begins otherwise.
func clearSigned(data []byte) *clearsign.Block {
	if data = withoutMark(data); !bytes.HasPrefix(data, []byte("-----BEGIN PGP SIGNED MESSAGE-----")) {
		return nil
	}
	block, _ := clearsign.Decode(data)
	return block
}

func withoutMark(data []byte) []byte { return bytes.TrimPrefix(data, []byte("\ufeff")) }

// ClearText returns what a clear-signed text says, with the lines of the
// armour blank, so that every line keeps its number; nil when it is none.
func ClearText(data []byte) []byte {
	block := clearSigned(data)
	if block == nil {
		return nil
	}
	lines := bytes.Count(data, []byte("\n"))
	var out []byte
	for i, line := range bytes.Split(data, []byte("\n")) {
		out = append(out, '\n')
		if i > 0 && len(strings.TrimSpace(string(line))) == 0 { // the end of its headers
			break
		}
	}
	out = append(append(out, block.Plaintext...), '\n')
	for more := lines - bytes.Count(out, []byte("\n")); more > 0; more-- {
		out = append(out, '\n')
	}
	return out
}

// verifyClear verifies a clear-signed file. Its content is the file itself, or one that says the same as the text in it.
func verifyClear(signature []byte, key *Key, content Content, config *packet.Config) Result {
	data, res := all(content)
	if data == nil {
		return res
	}
	block, behind := clearsign.Decode(withoutMark(signature))
	around := clearSigned(signature) == nil || len(bytes.TrimSpace(behind)) > 0
	signer, err := block.VerifySignature(key.pgp, config)
	res = pgpResult(signer, err, key)
	switch {
	case res.Outcome != Verified:
	case !bytes.Equal(data, signature) && !bytes.Equal(canonical(data), canonical(block.Plaintext)):
		res.Outcome, res.Because = Failed, "it signs a text of its own, which is not this content"
	case around && bytes.Equal(data, signature):
		res.Outcome, res.Because = Partial, "what stands around the text that is signed could be anybody's"
	}
	return res
}

// canonical is a text without what a clear signature does not tell apart (RFC 9580, section 7.2): the ends of lines, and blanks
// before them.
func canonical(text []byte) []byte {
	var out []byte
	for line := range bytes.Lines(withoutMark(text)) {
		out = append(append(out, bytes.TrimRight(line, " \t\r\n")...), '\n')
	}
	return bytes.TrimRight(out, "\n")
}
