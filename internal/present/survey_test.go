package present

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
	"fitcheck/core/survey"
)

// uimage is a legacy boot loader image with right checksums.
func uimage(title, payload string) []byte {
	h := make([]byte, 64)
	binary.BigEndian.PutUint32(h, 0x27051956)
	binary.BigEndian.PutUint32(h[8:], 1790000000)
	binary.BigEndian.PutUint32(h[12:], uint32(len(payload)))
	binary.BigEndian.PutUint32(h[24:], crc32.ChecksumIEEE([]byte(payload)))
	copy(h[28:], "\x05\x02\x02\x00"+title)
	binary.BigEndian.PutUint32(h[4:], crc32.ChecksumIEEE(h))
	return append(h, payload...)
}

func surveyed(t *testing.T, name string, data []byte, o survey.Options) *survey.Survey {
	t.Helper()
	p := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(p, data, 0o644))
	o.Limits = archive.DefaultLimits()
	s, err := survey.Run(context.Background(), p, o)
	require.NoError(t, err)
	return s
}

func zipOf(t *testing.T, names []string, data ...[]byte) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i, n := range names {
		e, err := w.Create(n)
		require.NoError(t, err)
		e.Write(data[i])
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestSurveyText(t *testing.T) {
	bad := uimage("QM-8T 8.4.2", "payload")
	bad[70] ^= 1
	data := zipOf(t, []string{"a.img", "in.zip", "b\x1b[1m.img"}, uimage("QM-24T 8.4.2", "payload"), zipOf(t, []string{"deep.img"}, bad), uimage("x", "y"))
	v := surveyed(t, "p.zip", data, survey.Options{})
	out := shown(SurveyPage(v), 100)
	inOrder(t, out, "PROBLEM", "p.zip  5 items", "a.img  (uimage", "header", `"QM-24T 8.4.2"`, "arm, linux", "built 2026-09-21T14:13:20Z", "in.zip", "deep.img", "What is wrong", "does not match", "download the package again")
	assert.NotContains(t, out, "\x1b")
	for _, l := range strings.Split(out, "\n") {
		assert.LessOrEqual(t, len([]rune(l)), 100)
	}
	for _, it := range v.Items {
		assert.Contains(t, out, it.Digests.Of("sha256"))
	}

	v = surveyed(t, "p.zip", zipOf(t, []string{"a.img"}, uimage("QM-24T 8.4.2", "payload")), survey.Options{})
	inOrder(t, shown(SurveyPage(v), 0), "SOUND", "p.zip  2 items")
	v = surveyed(t, "p.zip", zipOf(t, []string{"a.img"}, uimage("QM-24T 8.4.2", "payload")), survey.Options{Quick: true})
	assert.NotContains(t, shown(SurveyPage(v), 0), "SOUND", "what was not read is not called sound")
}

func TestSurveyJSON(t *testing.T) {
	v := surveyed(t, "p.zip", zipOf(t, []string{"a.img", "note.txt"}, uimage("QM-24T 8.4.2", "payload"), []byte("words\n")), survey.Options{})
	var b bytes.Buffer
	require.NoError(t, WriteJSON(&b, SurveyJSON(v)))
	var doc struct {
		Fitcheck struct{ Document string }
		Package  struct {
			Name   string
			Size   int64
			Sha256 string
		}
		Items []struct {
			Path, Kind string
			Size       int64
			Digests    map[string]string
			Facts      []struct{ About, Value, Source, Where string }
			Image      *struct {
				Format, Arch, Built string
				Integrity           []struct {
					Want, Got string
					OK        bool
				}
			}
		}
		Problems []any
	}
	require.NoError(t, json.Unmarshal(b.Bytes(), &doc), b.String())
	require.Len(t, doc.Items, 3)
	a := doc.Items[1]
	assert.Equal(t, "p.zip::a.img", a.Path)
	assert.Equal(t, "uimage", a.Kind)
	assert.EqualValues(t, 71, a.Size)
	require.NotNil(t, a.Image)
	require.Len(t, a.Image.Integrity, 2)
	assert.True(t, a.Image.Integrity[0].OK)
	assert.Equal(t, a.Image.Integrity[0].Want, a.Image.Integrity[0].Got)
	assert.Equal(t, "2026-09-21T14:13:20Z", a.Image.Built)
	assert.Equal(t, "text", doc.Items[2].Kind)
	assert.Nil(t, doc.Items[2].Image)
	assert.Empty(t, doc.Problems)
	assert.NotContains(t, b.String(), ": null")
}

func header(t *testing.T, data []byte) Header {
	t.Helper()
	r := image.Begin(format.Builtin(), data, int64(len(data)), false)
	r.Write(data)
	_, m, err := r.End(archive.Memory("f.img", data))
	require.NoError(t, err)
	require.NotNil(t, m)
	return Header{Path: "f.img", Title: "boot loader image", Size: int64(len(data)), Image: m}
}

func TestHeaderText(t *testing.T) {
	h := header(t, uimage("QM-8T 8.4.2", "payload"))
	inOrder(t, shown(HeaderPage(h, true), 100), "SOUND", "f.img", "Checksums, recomputed", "holds", "over 0x0 up to 0x40", "holds", "Fields", "offset", "0x0000", "27 05 19 56", "Bytes", "00000000")
	bad := uimage("QM-8T 8.4.2", "payload")
	bad[66] ^= 1
	inOrder(t, shown(HeaderPage(header(t, bad), false), 100), "DAMAGED", "! ", "Checksums", "does NOT match")
	hostile := header(t, uimage("\x1b[2J\x07", "p"))
	for _, dump := range []bool{false, true} {
		assert.NotContains(t, shown(HeaderPage(hostile, dump), 80), "\x1b")
	}
	for _, l := range strings.Split(shown(HeaderPage(h, true), 100), "\n") {
		assert.LessOrEqual(t, len([]rune(l)), 100, l)
	}
}

// The strip draws what lies where in proportion, from the first byte to the
// last; what is small is not lost in it.
func TestDeepMap(t *testing.T) {
	blob := append(bytes.Repeat([]byte{0xff}, 4<<20), uimage("QM-8T boot", strings.Repeat("code", 64))...)
	blob = append(blob, make([]byte, 4<<20)...)
	v := surveyed(t, "flash.bin", blob, survey.Options{Deep: true})
	out := shown(SurveyPage(v), 90)
	var strip string
	for _, l := range strings.Split(out, "\n") {
		if l = strings.TrimSpace(l); strings.HasPrefix(l, "[") {
			strip = strings.Trim(l, "[]")
		}
	}
	require.NotEmpty(t, strip, out)
	assert.Regexp(t, `^\.{3,}#{1,2}0{3,}$`, strip)
	assert.InDelta(t, strings.Count(strip, "."), strings.Count(strip, "0"), 2)
	inOrder(t, out, "# image", "0 zeros", ". erased flash (FF)", "0x00000000 up to 0x00400000", "erased flash", "0x00400000 up to", "uimage", "zeros")
	total := int64(0)
	for i, r := range v.Root().Map {
		assert.Equal(t, total, r.From, "region %d begins where the one before ends", i)
		total = r.To
	}
	assert.EqualValues(t, len(blob), total)
}
