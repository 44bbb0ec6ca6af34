package fault

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDo(t *testing.T) {
	assert.NoError(t, Do(func() error { return nil }))
	own := errors.New("own")
	assert.Same(t, own, Do(func() error { return own }))
	var none []int
	err := Do(func() error { _ = none[3]; return nil })
	var f *Error
	require.ErrorAs(t, err, &f)
	assert.Contains(t, err.Error(), "index out of range")
	assert.Contains(t, string(f.Stack), "fault_test.go")
	assert.NotContains(t, err.Error(), "goroutine")
}
