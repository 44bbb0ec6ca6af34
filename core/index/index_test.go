package index

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func put(t *testing.T, path, data string) string {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(data), 0o644))
	return path
}

var at = time.Date(2026, 11, 27, 21, 3, 0, 0, time.UTC)

func TestWhatWasFoundIsFoundAgain(t *testing.T) {
	kit, cache := t.TempDir(), t.TempDir()
	p := put(t, filepath.Join(kit, "packages/a.zip"), "one")
	x := Open(cache, kit)
	_, known := x.Found(p, "q")
	assert.False(t, known)
	x.Note(p, "q", Outcome{Fits: true, Place: 3, Looked: at})
	require.NoError(t, x.Save(kit))
	o, known := Open(cache, kit).Found(p, "q")
	assert.True(t, known)
	assert.Equal(t, Outcome{Fits: true, Place: 3, Looked: at}, o)
	_, known = Open(cache, kit).Found(p, "another question")
	assert.False(t, known)
	_, known = Open(cache, t.TempDir()).Found(p, "q")
	assert.False(t, known, "another kit")
}

// TestChangedPackageIsUnknown spoils what was found, in each way in which a package can change.
func TestChangedPackageIsUnknown(t *testing.T) {
	for what, change := range map[string]func(t *testing.T, p string){
		"longer":  func(t *testing.T, p string) { put(t, p, "longer") },
		"written": func(t *testing.T, p string) { require.NoError(t, os.Chtimes(p, at, at)) },
		"replaced by one of the same size and time": func(t *testing.T, p string) {
			info, err := os.Stat(p)
			require.NoError(t, err)
			other := put(t, p+"2", "two")
			require.NoError(t, os.Chtimes(other, info.ModTime(), info.ModTime()))
			require.NoError(t, os.Rename(other, p))
		},
		"a sum beside it": func(t *testing.T, p string) { put(t, p+".sha256", "00  a.zip") },
		"a folder now": func(t *testing.T, p string) {
			require.NoError(t, os.Remove(p))
			put(t, filepath.Join(p, "x"), "one")
		},
		"gone": func(t *testing.T, p string) { require.NoError(t, os.Remove(p)) },
	} {
		t.Run(what, func(t *testing.T) {
			kit, cache := t.TempDir(), t.TempDir()
			p := put(t, filepath.Join(kit, "packages/a.zip"), "one")
			put(t, filepath.Join(kit, "packages/a.zip0"), "of another name")
			x := Open(cache, kit)
			x.Note(p, "q", Outcome{Fits: true})
			require.NoError(t, x.Save(kit))
			change(t, p)
			_, known := Open(cache, kit).Found(p, "q")
			assert.False(t, known)
		})
	}
}

func TestStateGoesByTheFilesOfTheRules(t *testing.T) {
	kit := t.TempDir()
	rules := put(t, filepath.Join(kit, "rulebooks/a.yaml"), "kind: rulebook")
	before := State(filepath.Join(kit, "rulebooks"), filepath.Join(kit, "keys"))
	assert.Equal(t, before, State(filepath.Join(kit, "rulebooks"), filepath.Join(kit, "keys")))
	put(t, rules, "kind: rulebook\n")
	after := State(filepath.Join(kit, "rulebooks"), filepath.Join(kit, "keys"))
	assert.NotEqual(t, before, after)
	put(t, filepath.Join(kit, "keys/k.pem"), "key")
	assert.NotEqual(t, after, State(filepath.Join(kit, "rulebooks"), filepath.Join(kit, "keys")))
}

// TestSeveralProgramsAtOnce: the file is whole whenever it is read, and nothing is left behind.
func TestSeveralProgramsAtOnce(t *testing.T) {
	kit, cache := t.TempDir(), t.TempDir()
	p := put(t, filepath.Join(kit, "packages/a.zip"), "one")
	var all sync.WaitGroup
	for i := range 20 {
		all.Go(func() {
			x := Open(cache, kit)
			x.Note(p, string(rune('a'+i)), Outcome{Fits: true, Looked: at})
			assert.NoError(t, x.Save(kit))
			_, known := Open(cache, kit).Found(p, string(rune('a'+i)))
			_ = known // another may have been the last to write
		})
	}
	all.Wait()
	files, err := os.ReadDir(filepath.Join(cache, "fitcheck"))
	require.NoError(t, err)
	assert.Len(t, files, 1)
	n := 0
	for i := range 20 {
		if _, known := Open(cache, kit).Found(p, string(rune('a'+i))); known {
			n++
		}
	}
	assert.Positive(t, n)
}

func TestOldQuestionsAreForgotten(t *testing.T) {
	kit := t.TempDir()
	p := put(t, filepath.Join(kit, "a.zip"), "one")
	x := Open(t.TempDir(), kit)
	for i := range maxQuestions + 5 {
		x.Note(p, Question(string(rune('a'+i))), Outcome{Looked: at.Add(time.Duration(i) * time.Minute)})
	}
	_, known := x.Found(p, Question("a"))
	assert.False(t, known)
	_, known = x.Found(p, Question(string(rune('a'+maxQuestions+4))))
	assert.True(t, known)
}

func TestKitsThatAreGoneAreForgotten(t *testing.T) {
	cache := t.TempDir()
	for range 2 { // of each kit something is noted; the first is gone when the second is
		kit, err := os.MkdirTemp(t.TempDir(), "kit")
		require.NoError(t, err)
		p := put(t, filepath.Join(kit, "a.zip"), "one")
		x := Open(cache, kit)
		x.Note(p, "q", Outcome{Fits: true})
		require.NoError(t, x.Save(kit))
		require.NoError(t, os.RemoveAll(kit))
	}
	files, err := os.ReadDir(filepath.Join(cache, "fitcheck"))
	require.NoError(t, err)
	assert.Len(t, files, 1)
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte(`{"edition":1,"kit":"/k","packages":{"/k/a":{"stamp":"x","found":{"q":{"fits":true,"place":-3}}},"/k/b":null}}`))
	f.Add([]byte(`{"edition":2}`))
	f.Add([]byte(`[`))
	f.Fuzz(func(t *testing.T, data []byte) {
		cache, kit := t.TempDir(), t.TempDir()
		p := put(t, filepath.Join(kit, "a.zip"), "one")
		file := Open(cache, kit).file
		put(t, file, string(data))
		x := Open(cache, kit)
		if _, known := x.Found(p, "q"); known {
			t.Fatal("what it says of another state of the package is believed")
		}
		x.Note(p, "q", Outcome{Fits: true, Looked: at})
		if err := x.Save(kit); err != nil {
			t.Fatal(err)
		}
		if _, known := Open(cache, kit).Found(p, "q"); !known {
			t.Fatal("what was noted is not kept")
		}
	})
}

// An index that would get too long forgets what was found before, and keeps what was found now.
func TestFullIndexForgets(t *testing.T) {
	cache, kit := t.TempDir(), t.TempDir()
	x := Open(cache, kit)
	long := strings.Repeat("q", 300<<10)
	for n := range 50 { // as no real question is, so that few packages are enough
		x.Note(put(t, filepath.Join(kit, fmt.Sprintf("old-%d.zip", n)), "old"), fmt.Sprint(long, n), Outcome{Fits: true})
	}
	require.NoError(t, x.Save(kit))
	fresh := put(t, filepath.Join(kit, "fresh.zip"), "fresh")
	y := Open(cache, kit)
	y.Note(fresh, strings.Repeat("n", 2<<20), Outcome{Fits: true})
	require.NoError(t, y.Save(kit))
	z := Open(cache, kit)
	_, ok := z.Found(fresh, strings.Repeat("n", 2<<20))
	assert.True(t, ok, "what was found now")
	_, ok = z.Found(filepath.Join(kit, "old-0.zip"), fmt.Sprint(long, 0))
	assert.False(t, ok, "what was found long ago")
}

// What two programs found of one package stands side by side; where the package became another between them, what was found of the
// one says nothing of the other.
func TestWhatTwoFoundOfOnePackage(t *testing.T) {
	kit, cache := t.TempDir(), t.TempDir()
	p := put(t, filepath.Join(kit, "packages/a.zip"), "one")
	one, two := Open(cache, kit), Open(cache, kit)
	one.Note(p, "q1", Outcome{Fits: true, Place: 1, Looked: at})
	one.Note(p, "both", Outcome{Place: 1, Looked: at})
	two.Note(p, "q2", Outcome{Place: 2, Looked: at})
	two.Note(p, "both", Outcome{Place: 2, Looked: at})
	require.NoError(t, one.Save(kit))
	require.NoError(t, two.Save(kit))
	for q, place := range map[string]int{"q1": 1, "q2": 2, "both": 2} {
		o, known := Open(cache, kit).Found(p, q)
		assert.True(t, known, q)
		assert.Equal(t, place, o.Place, q)
	}
	three := Open(cache, kit)
	put(t, p, "another one")
	three.Note(p, "q3", Outcome{Place: 3, Looked: at})
	require.NoError(t, three.Save(kit))
	for q, want := range map[string]bool{"q1": false, "q2": false, "q3": true} {
		_, known := Open(cache, kit).Found(p, q)
		assert.Equal(t, want, known, q)
	}
}
