package format_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// signedFIT has one configuration of a kernel and a tree, with a signature
// over the nodes that are given.
func signedFIT(hash string, hashed ...string) []byte {
	part := func(name, text string) node {
		return node{name: name, props: []prop{{"data", []byte(text)}, {"type", "kernel"}},
			children: []node{{name: "hash-1", props: []prop{{"algo", hash}, {"value", sumOf(hash, []byte(text))}}}}}
	}
	return fdtBlob(17, node{children: []node{
		{name: "images", children: []node{part("kernel-1", "the kernel"), part("fdt-1", "the tree")}},
		{name: "configurations", props: []prop{{"default", "conf-1"}}, children: []node{{name: "conf-1", props: []prop{{"kernel", "kernel-1"}, {"fdt", "fdt-1"}},
			children: []node{{name: "signature-1", props: []prop{{"algo", "sha256,rsa2048"}, {"key-name-hint", "maker"}, {"value", []byte("0123")}, {"hashed-nodes", hashed}}}}}}}}})
}

// A signature that leaves out its configuration, or what that starts, proves
// nothing of it: the list of what it covers lies beside it, for anybody to
// change.
func TestSignatureCovers(t *testing.T) {
	all := []string{"/", "/configurations/conf-1", "/images/kernel-1", "/images/kernel-1/hash-1", "/images/fdt-1", "/images/fdt-1/hash-1"}
	without := func(left ...string) []string {
		var out []string
		for _, n := range all {
			if !strings.Contains(strings.Join(left, " ")+" ", n+" ") {
				out = append(out, n)
			}
		}
		return out
	}
	for name, c := range map[string]struct {
		hash   string
		hashed []string
		want   []string
	}{
		"all":                         {"sha256", all, nil},
		"another's configuration":     {"sha256", append(without("/configurations/conf-1"), "/configurations/conf-2"), []string{"/configurations/conf-1"}},
		"no kernel":                   {"sha256", without("/images/kernel-1"), []string{"/images/kernel-1"}},
		"no hash of the tree":         {"sha256", without("/images/fdt-1/hash-1"), []string{"/images/fdt-1"}},
		"hashes that can be forged":   {"crc32", all, []string{"/images/kernel-1", "/images/fdt-1"}},
		"nothing but the node on top": {"sha256", []string{"/"}, []string{"/configurations/conf-1", "/images/kernel-1", "/images/fdt-1"}},
		"names that only begin alike": {"sha256", append(without("/images/kernel-1"), "/images/kernel-10"), []string{"/images/kernel-1"}},
	} {
		m := read(t, signedFIT(c.hash, c.hashed...))
		require.Len(t, m.Signatures, 1, name)
		assert.Equal(t, "conf-1", m.Signatures[0].Config)
		assert.Equal(t, "maker", m.Signatures[0].KeyHint)
		assert.Equal(t, c.want, m.Signatures[0].Uncovered, name)
		last := int64(-1)
		for _, o := range m.Signatures[0].Over {
			assert.Less(t, o.From, o.To, name)
			assert.Greater(t, o.From, last, "stretches follow each other")
			last = o.To
		}
	}
	assert.Contains(t, fmt.Sprint(read(t, signedFIT("sha256")).Damaged()), "cannot be found", "a signature over nothing")
}

// What one reader takes for kernel-1 another may find elsewhere.
func TestAmbiguousNodes(t *testing.T) {
	for name, c := range map[string]struct {
		images []string
		says   string
	}{
		"one of each":       {[]string{"kernel-1", "kernel-2"}, ""},
		"unit addresses":    {[]string{"kernel@1", "kernel@2"}, ""},
		"one name twice":    {[]string{"kernel-1", "kernel-1"}, "two nodes of the name kernel-1"},
		"name goes on":      {[]string{"kernel-1@evil", "kernel-1"}, "kernel-1 and kernel-1@evil"},
		"only begins alike": {[]string{"kernel-1", "kernel-12"}, ""},
	} {
		var nodes []node
		for _, n := range c.images {
			nodes = append(nodes, node{name: n, props: []prop{{"data", []byte("x")}}})
		}
		m := read(t, fdtBlob(17, node{children: []node{{name: "images", children: nodes}, {name: "configurations"}}}))
		if c.says == "" {
			assert.Empty(t, m.Damaged(), name)
		} else {
			assert.Contains(t, fmt.Sprint(m.Damaged()), c.says, name)
		}
	}
}
