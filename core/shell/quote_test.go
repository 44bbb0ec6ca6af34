package shell

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestQuote(t *testing.T) {
	for text, want := range map[string]string{"packages/qm-8.4.2.zip": "packages/qm-8.4.2.zip", "": "''", "a b": "'a b'", "it's": `'it'\''s'`, "a%b b": "'a%b b'", "é": "'é'"} {
		assert.Equal(t, want, Quote(text))
	}
	sh, err := exec.LookPath("sh")
	if err != nil {
		t.Skip("there is no shell")
	}
	for _, text := range []string{"", "a b", "it's", "$HOME", "`ls`", "*", "a\nb", `\`, "~", "#x", "!", "-n", `"`, "a;b", "a{b,c}"} {
		out, err := exec.Command(sh, "-c", "printf %s "+Quote(text)).Output()
		require.NoError(t, err)
		assert.Equal(t, text, string(out), "%q", Quote(text))
	}
}
