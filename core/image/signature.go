package image

import (
	"fitcheck/core/digest"
	"fitcheck/core/fact"
)

// Signature is a signature that a header carries over stretches of its file.
type Signature struct {
	Name    string // "conf-1/signature-1"
	Algo    string // "sha256,rsa2048"
	KeyHint string // name of the key that made it
	PSS     bool
	Value   []byte
	Over    []digest.Stretch
	// Config is the configuration that it signs; "" for a single image.
	Config string
	Source fact.Source
	// Uncovered names what the configuration starts and the signature does not
	// cover: anybody could have put it there.
	Uncovered []string
}
