// Package shell writes texts as a POSIX shell reads them.
package shell

import "strings"

// plain are the characters that no shell gives a meaning to inside a word.
const plain = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-+=:,./@%"

// Quote writes a text as one word (POSIX.1-2017, Shell Command Language, 2.2.2): as it is
// where that will do, else in single quotes.
func Quote(text string) string {
	if text != "" && strings.Trim(text, plain) == "" {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}
