package example

import (
	"slices"
	"strings"
)

// Insert puts lines into the text of a YAML file, at the end of the block that keys lead to,
// from the top: {"hops", "rules"}. Blocks that are missing are made, at the end of the one that
// holds them. What is there stays as it is, to the byte, its comments included. ok is false
// where a block on the way is written in braces, into which nothing is put.
//
// In one piece: the steps of one edit, each of which may refuse it.
func Insert(text string, keys, add []string) (out string, ok bool) {
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	lines := strings.SplitAfter(text, "\n")
	if n := len(lines); lines[n-1] == "" {
		lines = lines[:n-1]
	}
	from, to, indent := 0, len(lines), 0
	for depth, key := range keys {
		at := -1
		for i := from; i < to; i++ {
			if n, bare := blanks(lines[i]); n == indent && strings.HasPrefix(bare, key+":") {
				at = i
				break
			}
		}
		if at < 0 { // make it, and what is below it
			var made []string
			for k, name := range keys[depth:] {
				made = append(made, strings.Repeat(" ", indent+2*k)+name+":\n")
			}
			for _, l := range add {
				made = append(made, strings.Repeat(" ", indent+2*len(keys[depth:]))+l+"\n")
			}
			if depth == 0 && len(lines) > 0 {
				made = append([]string{"\n"}, made...)
			}
			return strings.Join(slices.Insert(lines, to, made...), ""), true
		}
		_, bare := blanks(lines[at])
		if rest, _, _ := strings.Cut(strings.TrimPrefix(bare, key+":"), " #"); strings.TrimSpace(rest) != "" && !strings.HasPrefix(strings.TrimSpace(rest), "#") {
			return "", false
		}
		inner := -1
		end := at + 1
		for i := at + 1; i < to; i++ {
			n, bare := blanks(lines[i])
			if bare == "" || strings.HasPrefix(bare, "#") {
				continue
			}
			if n < indent || n == indent && !strings.HasPrefix(bare, "- ") {
				break
			}
			if inner < 0 {
				inner = n
			}
			end = i + 1
		}
		if inner < 0 {
			inner = indent + 2
		}
		from, to, indent = at+1, end, inner
	}
	var made []string
	for _, l := range add {
		made = append(made, strings.Repeat(" ", indent)+l+"\n")
	}
	return strings.Join(slices.Insert(lines, to, made...), ""), true
}

// blanks counts those at the beginning of a line, and gives what follows, without its end.
func blanks(line string) (n int, bare string) {
	line = strings.TrimRight(line, "\r\n")
	bare = strings.TrimLeft(line, " ")
	return len(line) - len(bare), bare
}
