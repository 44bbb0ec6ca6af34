package present

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRangesOfNames(t *testing.T) {
	for _, c := range []struct{ names, want []string }{
		{[]string{"ap-3", "ap-1", "ap-2", "ap-10"}, []string{"ap-1–ap-3", "ap-10"}},
		{[]string{"ap-08", "ap-09", "ap-10", "ap-11"}, []string{"ap-08–ap-11"}},
		{[]string{"ap-9", "ap-10", "ap-11"}, []string{"ap-9–ap-11"}},
		{[]string{"ap-1", "ap-2"}, []string{"ap-1", "ap-2"}},
		{[]string{"ap-1", "mast-2", "ap-3"}, []string{"ap-1", "ap-3", "mast-2"}},
		{[]string{"depot", "hall"}, []string{"depot", "hall"}},
		{[]string{"a09", "a010", "a011"}, []string{"a09", "a010", "a011"}},
		{nil, nil},
	} {
		assert.Equal(t, c.want, ranges(c.names))
	}
}
