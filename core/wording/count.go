package wording

import "fmt"

// Count writes a number with its noun: "1 byte", "2 bytes".
func Count[N int | int64](n N, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
