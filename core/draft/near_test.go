package draft

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Versions are of one line only where their first numbers are near each other, and both have one.
func TestNear(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"8.4", "8.4.2", true}, {"8.4", "11.4.2", true}, {"8.4", "12.4.2", false}, {"11.0", "8.4", true}, {"12.0", "8.4", false}, {"v8", "r9.1", true}, {"x", "1.0", false}, {"1.0", "x", false}, {"x", "y", false}, {"", "", false},
		{"99999999999999999999", "99999999999999999999", false},
	} {
		assert.Equal(t, c.want, near(c.a, c.b), "%q and %q", c.a, c.b)
	}
}
