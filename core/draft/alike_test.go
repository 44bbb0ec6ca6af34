package draft

import (
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Two entries are one where everything that their manifest is read by is the same.
func TestEntriesAreAlike(t *testing.T) {
	whole := Manifest{Form: "lines", Heading: "^h$", Record: "^r$", Groups: "g", Records: "x", Fields: [][2]string{{"file", "f"}}, GroupFields: [][2]string{{"models", "m"}}}
	with := func(m Manifest) *Package { return &Package{Manifest: &m} }
	assert.True(t, with(whole).alike(with(whole)))
	assert.True(t, (&Package{}).alike(&Package{}), "neither has one")
	assert.False(t, (&Package{}).alike(with(whole)))
	assert.False(t, with(whole).alike(&Package{}))
	for _, name := range []string{"Form", "Heading", "Record", "Groups", "Records"} {
		other := whole
		reflect.ValueOf(&other).Elem().FieldByName(name).SetString("another")
		assert.False(t, with(whole).alike(with(other)), name)
		assert.False(t, with(other).alike(with(whole)), name)
	}
	other := whole
	other.Fields = [][2]string{{"file", "g"}}
	assert.False(t, with(whole).alike(with(other)))
	other = whole
	other.GroupFields = nil
	assert.False(t, with(whole).alike(with(other)))
}
