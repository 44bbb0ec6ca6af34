package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/kit"
	"fitcheck/core/path"
	"fitcheck/core/plan"
	"fitcheck/core/standin"
)

// What recover approves is what a boot loader of the rulebook takes: a stand-in that
// dropped it would be a fault of one of the two. Sound cases, and such as are spoilt or
// turned in some way.
func TestStandInTakesWhatIsApproved(t *testing.T) {
	seeds := uint64(120)
	if testing.Short() {
		seeds = 20
	}
	doings := map[string]func(*spoilt) bool{}
	for name, s := range spoils {
		if s.kinds == "" || strings.Contains(s.kinds, "single") {
			doings[name] = s.do
		}
	}
	for name, s := range turns {
		if strings.Contains(s.kinds, "single") {
			doings[name] = s.do
		}
	}
	names := slices.Sorted(maps.Keys(doings))
	approved := make([]bool, seeds)
	t.Run("cases", func(t *testing.T) {
		for seed := range seeds {
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				r := rand.New(rand.NewPCG(seed, 15))
				c := sound(r)
				for c.kind != "single" {
					c = sound(r)
				}
				did := ""
				if seed%3 > 0 {
					if name := names[r.IntN(len(names))]; doings[name](c) {
						did = name
					}
				}
				decorate(c, r)
				c.inKit = false
				n := c.lay(t, r, c)
				if n.run("recover") != exitFits {
					return
				}
				var doc struct{ Chosen struct{ Item string } }
				require.NoError(t, json.Unmarshal([]byte(n.out["recover"]), &doc))
				if doc.Chosen.Item == "" {
					return // an image that is stored on it
				}
				k, err := kit.Open(n.dir)
				require.NoError(t, err)
				d, err := k.Device("dead")
				require.NoError(t, err)
				rb, err := k.RulebookFor(d.Model.Text)
				require.NoError(t, err)
				box := path.NewBox(d, rb)
				rule, _ := rb.RecoveryFor(box.Model, box.Revision)
				require.NotNil(t, rule)
				data, err := plan.ReadItem(context.Background(), n.pkg, doc.Chosen.Item, 1<<30, archive.DefaultLimits())
				require.NoError(t, err)
				s := &standin.StandIn{Rule: rule, Rules: rb, Model: box.Model, Board: box.Revision, Formats: k.Formats}
				assert.Empty(t, s.Refuses(data), "recover approved it (%s)", did)
				approved[seed] = true
			})
		}
	})
	n := 0
	for _, a := range approved {
		if a {
			n++
		}
	}
	assert.Greater(t, n, int(seeds)/4, "most cases are approved, or this looks at nothing")
}
