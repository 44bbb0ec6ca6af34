package plan

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/fit"
	"fitcheck/core/path"
	"fitcheck/core/survey"
	"fitcheck/internal/pagetest"
)

// carriers are those of the packages of each step.
func carriers(x *Target) (out []string) {
	for _, s := range x.Steps {
		var in []string
		for _, p := range s.Packages {
			in = append(in, p.Name)
		}
		out = append(out, strings.Join(in, "+"))
	}
	return out
}

// A package that is given serves its hop or is refused; others fill only hops for
// which none was given.
func TestGivenPackages(t *testing.T) {
	b := newBench(t, "qm-tram-8.4.2.zip", "qm-core-6.1.2.zip", "qm-core-6.3.0.zip", "qm-core-6.4.1.zip")
	unused := func(d *device.Device, x *Target) (out []string) {
		for _, v := range b.shelf.Unused(d, x.Steps) {
			out = append(out, v.Package)
		}
		return out
	}
	given := func(packages ...string) {
		b.shelf.Given = nil
		for _, p := range packages {
			b.shelf.Given = append(b.shelf.Given, b.survey(t, p))
		}
	}

	one := b.device(t, "cabinet-12")
	to := path.Goal{Version: "8.4.2"}
	given()
	assert.Equal(t, []string{"qm-tram-8.4.2.zip"}, carriers(b.target(t, one, to)))
	given("qm-tram-a-8.4.2.zip") // of the same release, for other boards
	x := b.target(t, one, to)
	assert.Equal(t, []string{"qm-tram-a-8.4.2.zip"}, carriers(x), "what was given is judged, and nothing else is taken for it")
	assert.True(t, x.Steps[0].Given)
	assert.Equal(t, fit.Misfit, x.Verdicts[0].Outcome)
	assert.Empty(t, unused(one, x))
	given("qm-tram-a-8.4.2.zip", "qm-tram-8.4.2.zip")
	x = b.target(t, one, to)
	assert.Equal(t, []string{"qm-tram-8.4.2.zip"}, carriers(x), "of two that were given the one that fits")
	given("vg20-5.1.0.zip")
	x = b.target(t, one, to)
	assert.Equal(t, []string{"qm-tram-8.4.2.zip"}, carriers(x))
	assert.Equal(t, []string{"vg20-5.1.0.zip"}, unused(one, x), "it is for no hop, and is told of")
	assert.Empty(t, x.FromKit(), "no hop was given anything")

	stack := b.device(t, "depot-core")
	given("qm-core-6.3.0.zip")
	x = b.target(t, stack, path.Goal{Version: "6.4.1"})
	assert.Equal(t, []string{"qm-core-6.1.2.zip", "qm-core-6.4.1.zip", "qm-core-6.3.0.zip", "qm-core-6.4.1.zip"}, carriers(x))
	told := strings.Join(x.FromKit(), "\n")
	for _, want := range []string{"hop 1 takes ", "hop 2 takes ", "hop 4 takes ", "of the kit: no package was given for release 6.1.2"} {
		assert.Contains(t, told, want)
	}
	assert.NotContains(t, told, "hop 3")

	b.shelf.Surveys = []*survey.Survey{}
	x = b.target(t, stack, path.Goal{Version: "6.4.1"})
	assert.Equal(t, []string{"", "", "qm-core-6.3.0.zip", ""}, carriers(x), "what is missing is missing")
	assert.Nil(t, x.Verdicts[0])
}

// Settings of one image family are never loaded into another, whatever the rulebook
// says of resets.
func TestSettingsStayInTheirFamily(t *testing.T) {
	b := newBench(t, "vr510-lantern-23.4.2.bin", "vr510-lantern-initial-23.4.0.bin", "vr510-3.4.0.bin")
	d := b.device(t, "platform-9")
	x := b.target(t, d, path.Goal{Version: "23.4.2", Family: "lantern"})
	require.Len(t, x.Steps, 2, "%v %v", x.Result.Plans[0].Blocked, x.Result.Unsettled())
	files, err := Arrange(x.Files(), x.Transfer)
	require.NoError(t, err)
	text := all(Write(x, files, RunbookOptions{}))
	assert.Contains(t, text, "On the way the device goes to another image family, which does not take the settings of this one")
	assert.Contains(t, text, "It runs lantern-initial now: set it up anew. The settings of stock are never loaded into it")
	assert.NotContains(t, text, "load the copy again")
	assert.True(t, x.Steps[0].Crosses())
}

// Packages that bring no main image are installed as they are given, with no way that was looked for: the runbook is from
// and to what runs, and its commands name no release to go to.
func TestRunbookWithoutAWay(t *testing.T) {
	b := worked(t, "quillmere.yaml", "", "qm-tram-8.4.2.zip")
	x := b.target(t, b.device(t, "cabinet-07"), path.Goal{Version: "8.4.2"})
	require.Len(t, x.Steps, 1)
	files, err := Arrange(x.Files(), x.Transfer)
	require.NoError(t, err)
	way := Write(x, files, RunbookOptions{Server: "192.0.2.1"})
	x.Result = &path.Result{}
	x.Steps[0].From, x.Steps[0].To = "8.2.1", "8.2.1"
	book := Write(x, files, RunbookOptions{Server: "192.0.2.1"})
	assert.Equal(t, "8.2.1", book.From)
	assert.Equal(t, "8.2.1", book.To)
	assert.Equal(t, "8.4.2", way.To)
	text := func(r *Runbook) string { return pagetest.Line(r.Sections) }
	assert.Contains(t, text(way), "-to 8.4.2")
	assert.NotContains(t, text(book), "-to ")
	x.Steps = nil
	x.Verdicts = nil
	empty := Write(x, files, RunbookOptions{Server: "192.0.2.1"})
	assert.Empty(t, empty.From+empty.To)
}
