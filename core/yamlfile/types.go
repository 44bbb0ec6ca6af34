package yamlfile

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"regexp"
	"regexp/syntax"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
)

// String is a scalar, as written, with its place. Numbers keep their spelling:
// 8.0 stays "8.0".
type String struct {
	Text string
	Spot
}

// ReadScalar implements Scalar.
func (t *String) ReadScalar(text string, at Spot) error {
	*t = String{text, at}
	if strings.TrimSpace(text) == "" {
		return fmt.Errorf("the text is empty; leave the key out when the value is not known")
	}
	return nil
}

// Set tells whether the file gave the value.
func (t String) Set() bool { return t.Line > 0 }

// Size is a number of bytes.
type Size struct {
	Bytes int64
	Spot
}

// ReadScalar implements Scalar.
func (s *Size) ReadScalar(text string, at Spot) error {
	n, err := ParseSize(text)
	*s = Size{n, at}
	return err
}

// Set tells whether the file gave the value.
func (s Size) Set() bool { return s.Line > 0 }

var sizeText = regexp.MustCompile(`^(\d+(?:\.\d+)?) ?([kKMGT]i?B|B)?$`)

// ParseSize reads "32MiB", "120MB" or a plain number of bytes. KiB and its
// kin are powers of 1024, kB and its kin powers of 1000.
func ParseSize(text string) (int64, error) {
	m := sizeText.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return 0, fmt.Errorf("%q is not a size; write 32MiB, 120MB or a number of bytes", text)
	}
	unit := float64(1)
	if m[2] != "" && m[2] != "B" {
		base := 1000.0
		if strings.Contains(m[2], "i") {
			base = 1024
		}
		unit = math.Pow(base, float64(strings.IndexByte("KMGT", m[2][0]&^0x20)+1))
	}
	f, err := strconv.ParseFloat(m[1], 64)
	bytes := f * unit
	if err != nil || bytes >= math.MaxInt64 || bytes != math.Trunc(bytes) {
		return 0, fmt.Errorf("%q is not a whole number of bytes that fits 63 bits", text)
	}
	return int64(bytes), nil
}

// PlainSize writes a size as ParseSize reads it that stands in prose or on a console: "1,5 GB", "215,040 KB", "33_554_432".
// A comma before three digits parts thousands; else it is a decimal one.
func PlainSize(text string) string {
	return strings.NewReplacer(",", "", "_", "", " ", "").Replace(decimalComma.ReplaceAllString(text, "$1.$2$3"))
}

// decimalComma is a comma that parts no thousands.
var decimalComma = regexp.MustCompile(`^(\s*\d+),(\d{1,2}|\d{4,})([^\d,]|$)`)

// FormatSize writes a number of bytes for reading: "210 MiB".
func FormatSize(n int64) string {
	units := []string{"KiB", "MiB", "GiB", "TiB"}
	if n < 1<<10 {
		return fmt.Sprintf("%d bytes", n)
	}
	f, u := float64(n), ""
	for _, unit := range units {
		if f < 1024 {
			break
		}
		f, u = f/1024, unit
	}
	if f == float64(int64(f)) {
		return fmt.Sprintf("%d %s", int64(f), u)
	}
	return fmt.Sprintf("%.1f %s", f, u)
}

// Date is a day.
type Date struct {
	Day time.Time
	Spot
}

// ReadScalar implements Scalar.
func (d *Date) ReadScalar(text string, at Spot) error {
	day, err := time.Parse(time.DateOnly, text)
	*d = Date{day, at}
	if err != nil {
		return fmt.Errorf("%q is not a date; write it as 2026-09-30", text)
	}
	return nil
}

// Set tells whether the file gave the value.
func (d Date) Set() bool { return d.Line > 0 }

// Duration is a stretch of time.
type Duration struct {
	Time time.Duration
	Spot
}

// ReadScalar implements Scalar.
func (d *Duration) ReadScalar(text string, at Spot) error {
	t, err := time.ParseDuration(text)
	*d = Duration{t, at}
	if err != nil || t < 0 {
		return fmt.Errorf("%q is not a stretch of time; write it as 20s, or 6m", text)
	}
	return nil
}

// Set tells whether the file gave the value.
func (d Duration) Set() bool { return d.Line > 0 }

// Pattern is a regular expression.
type Pattern struct {
	*regexp.Regexp
	Spot
}

// ReadScalar implements Scalar.
func (p *Pattern) ReadScalar(text string, at Spot) error {
	re, err := regexp.Compile(text)
	*p = Pattern{re, at}
	if err != nil {
		return fmt.Errorf("not a regular expression: %s", faultOf(err))
	}
	return nil
}

// faultOf says what is wrong with a regular expression, and where in it.
func faultOf(err error) string {
	var s *syntax.Error
	if !errors.As(err, &s) {
		return err.Error()
	}
	what := map[syntax.ErrorCode]string{
		syntax.ErrMissingParen: "a ( is not closed", syntax.ErrUnexpectedParen: "a ) closes nothing", syntax.ErrMissingBracket: "a [ is not closed",
		syntax.ErrMissingRepeatArgument: "there is nothing that is to be repeated", syntax.ErrInvalidRepeatOp: "what is repeated already is repeated again",
		syntax.ErrInvalidRepeatSize: "it is repeated too often", syntax.ErrInvalidCharRange: "there is no such range or class of characters", syntax.ErrInvalidCharClass: "there is no such class of characters",
		syntax.ErrInvalidEscape: "there is no such escape", syntax.ErrTrailingBackslash: "it ends in a backslash", syntax.ErrInvalidNamedCapture: "the name of a group is not closed, or is no name",
		syntax.ErrInvalidPerlOp: "it looks around or back, which expressions here cannot (they are those of RE2)", syntax.ErrInvalidUTF8: "it is not in UTF-8",
		syntax.ErrLarge: "it is too large", syntax.ErrNestingDepth: "its groups lie too deep in each other",
	}[s.Code]
	if what == "" {
		what = s.Code.String()
	}
	if s.Expr == "" {
		return what
	}
	return fmt.Sprintf("%s: %s", what, s.Expr)
}

// Set tells whether the file gave a pattern.
func (p Pattern) Set() bool { return p.Regexp != nil }

// MarshalText implements encoding.TextMarshaler; a pattern that is not given is an empty text.
func (p Pattern) MarshalText() ([]byte, error) {
	if !p.Set() {
		return nil, nil
	}
	return p.Regexp.MarshalText()
}

// Glob is a pattern over item addresses; "**" spans levels.
type Glob struct {
	Pattern string
	Spot
}

// ReadScalar implements Scalar.
func (g *Glob) ReadScalar(text string, at Spot) error {
	*g = Glob{text, at}
	if text == "" || !doublestar.ValidatePattern(text) {
		return fmt.Errorf("%q is not a glob pattern", text)
	}
	return nil
}

// Set tells whether the file gave a glob.
func (g Glob) Set() bool { return g.Line > 0 }

// Match tests a path with "/" between its levels.
func (g Glob) Match(path string) bool {
	ok, err := doublestar.Match(g.Pattern, path)
	return err == nil && ok
}

// Map is a mapping that keeps the order of its keys.
type Map[T any] struct {
	Entries []*Entry[T]
}

// Entry is one key of a Map with its value.
type Entry[T any] struct {
	Key   string
	Spot  Spot
	Value T
}

func (m *Map[T]) entry(key string, at Spot) reflect.Value {
	e := &Entry[T]{Key: key, Spot: at}
	m.Entries = append(m.Entries, e)
	return reflect.ValueOf(&e.Value).Elem()
}

// Get finds a key as written.
func (m *Map[T]) Get(key string) (*Entry[T], bool) {
	for _, e := range m.Entries {
		if e.Key == key {
			return e, true
		}
	}
	return nil, false
}

// Keys lists the keys in the order of the file.
func (m *Map[T]) Keys() []string {
	out := make([]string, len(m.Entries))
	for i, e := range m.Entries {
		out[i] = e.Key
	}
	return out
}
