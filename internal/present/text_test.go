package present

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const hostile = "a\x1b[2Jb\u202ec\u0007d\x7fe\u0085f\u200bg\U000e0041"

func TestWriteJSONEscapes(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, WriteJSON(&b, map[string]any{"name": hostile, "<&>": "\u2028\u2066"}))
	for _, r := range strings.TrimSuffix(b.String(), "\n") {
		assert.True(t, r == '\n' || r >= ' ' && r < 0x7f, "%q in the text", r)
	}
	var back map[string]string
	require.NoError(t, json.Unmarshal(b.Bytes(), &back))
	assert.Equal(t, hostile, back["name"], "what reads it gets the name itself")
	assert.Equal(t, "\u2028\u2066", back["<&>"])
}

func TestBytes(t *testing.T) {
	for n, want := range map[int64]string{-1: "size not known", 0: "0 bytes", 1: "1 byte", 1023: "1023 bytes", 1536: "1.5 KiB", 16 << 20: "16.0 MiB", 3 << 29: "1.5 GiB"} {
		assert.Equal(t, want, Bytes(n))
	}
}

func TestWithin(t *testing.T) {
	assert.Equal(t, "::a/b:3", within("p.zip", "p.zip::a/b:3"))
	assert.Equal(t, "p.zip", within("p.zip", "p.zip"))
	assert.Equal(t, "rules.yaml:3", within("p.zip", "rules.yaml:3"))
}
