// Package pattern compiles regular expressions when they are first used: a program that has very
// many of them, and uses few in one call, starts at once.
package pattern

import (
	"regexp"
	"sync"
)

// Pattern is a regular expression of the program's own.
type Pattern struct {
	text string
	once sync.Once
	re   *regexp.Regexp
}

var (
	mu  sync.Mutex
	all []*Pattern
)

// New takes an expression. One that does not compile is a fault of the program, found by the test
// of whoever calls Compile, and a panic when it is used.
func New(text string) *Pattern {
	p := &Pattern{text: text}
	mu.Lock()
	defer mu.Unlock()
	all = append(all, p)
	return p
}

// Compile compiles all expressions that were taken, for tests; it returns how many there are.
func Compile() int {
	mu.Lock()
	defer mu.Unlock()
	for _, p := range all {
		p.Regexp()
	}
	return len(all)
}

// Regexp is the compiled expression.
func (p *Pattern) Regexp() *regexp.Regexp {
	p.once.Do(func() { p.re = regexp.MustCompile(p.text) })
	return p.re
}

// The methods are those of regexp.Regexp.

func (p *Pattern) String() string                       { return p.text }
func (p *Pattern) MatchString(s string) bool            { return p.Regexp().MatchString(s) }
func (p *Pattern) FindString(s string) string           { return p.Regexp().FindString(s) }
func (p *Pattern) FindStringIndex(s string) []int       { return p.Regexp().FindStringIndex(s) }
func (p *Pattern) FindStringSubmatch(s string) []string { return p.Regexp().FindStringSubmatch(s) }
func (p *Pattern) FindStringSubmatchIndex(s string) []int {
	return p.Regexp().FindStringSubmatchIndex(s)
}
func (p *Pattern) FindAllString(s string, n int) []string { return p.Regexp().FindAllString(s, n) }
func (p *Pattern) FindAllStringIndex(s string, n int) [][]int {
	return p.Regexp().FindAllStringIndex(s, n)
}
func (p *Pattern) FindAllStringSubmatch(s string, n int) [][]string {
	return p.Regexp().FindAllStringSubmatch(s, n)
}
func (p *Pattern) FindAllStringSubmatchIndex(s string, n int) [][]int {
	return p.Regexp().FindAllStringSubmatchIndex(s, n)
}
func (p *Pattern) ReplaceAllString(s, with string) string {
	return p.Regexp().ReplaceAllString(s, with)
}
func (p *Pattern) ReplaceAllStringFunc(s string, with func(string) string) string {
	return p.Regexp().ReplaceAllStringFunc(s, with)
}
func (p *Pattern) Split(s string, n int) []string { return p.Regexp().Split(s, n) }
