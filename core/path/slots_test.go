package path

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A slot that holds a version is a way back only where it is known which one is active, and it is another than that.
func TestOtherSlot(t *testing.T) {
	same := func(a, b string) bool { return a == b }
	for _, c := range []struct {
		main   []string
		active int
		want   string
	}{
		{[]string{"1", "2"}, 1, "A"}, {[]string{"1", "1"}, 0, "B"}, {[]string{"1", "2"}, 0, ""}, {[]string{"1", "1"}, -1, ""}, {[]string{"2", "1"}, -1, ""}, {[]string{"", "2"}, 1, ""}, {nil, -1, ""},
		{[]string{"2", "1", "1"}, 0, "B"}, {[]string{"2", "", "1"}, 0, "C"},
	} {
		s := Slots{Names: []string{"A", "B", "C"}[:len(c.main)], Main: c.main, Active: c.active}
		name, ok := s.Other("1", same)
		assert.Equal(t, c.want, name, c)
		assert.Equal(t, c.want != "", ok, c)
	}
	everything := func(string, string) bool { return true }
	s := Slots{Names: []string{"A", "B"}, Main: []string{"", "2"}, Active: 1}
	_, ok := s.Other("1", everything)
	assert.False(t, ok, "a slot of which nothing is known holds no version")
}

// Installs go to the slots in turn, the longest untouched one first, and never to the active one.
func TestSlotsInTurn(t *testing.T) {
	s := Slots{Names: []string{"A", "B", "C"}, Main: []string{"1", "2", "3"}, Active: 1, order: []int{0, 1, 2}}
	var went []string
	for _, v := range []string{"4", "5", "6", "7"} {
		i := s.Next()
		went = append(went, s.Names[i])
		s.Install(v)
		assert.Equal(t, i, s.Active)
		assert.Equal(t, v, s.Main[i])
	}
	assert.Equal(t, []string{"A", "B", "C", "A"}, went)
	unknown := Slots{Names: []string{"A"}, Main: []string{"1"}, Active: -1, order: []int{0}}
	assert.Equal(t, -1, unknown.Next())
}
