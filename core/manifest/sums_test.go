package manifest

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatListsSay holds what lines of checksum lists are read as against testdata/sums.txt.
func TestWhatListsSay(t *testing.T) {
	var b strings.Builder
	md5, sha256, crc := strings.Repeat("a1", 16), strings.Repeat("B2", 32), "deadBEEF"
	read := func(data []byte) (string, error) {
		return fmt.Sprintf("%v %+v, of x.img beside it %+v", IsSums(data), *ReadSums("s", data), ReadBeside("s", data, "x.img")), nil
	}
	for _, s := range []string{
		md5 + "  x.img", md5 + " *x.img", md5 + " x.img", md5 + "   x.img", md5 + "\tx.img", "\\" + md5 + `  x\nimg\\`, sha256 + "  folder/x.img", sha256 + `  folder\x.img`, crc + "  x.img", crc, md5, " " + md5 + " ", sha256 + "  ", sha256,
		"MD5 (x.img) = " + md5, "MD5(x.img)=" + md5, "SHA256 (x.img) = " + sha256, "SHA2-256(x.img)= " + sha256, "SHA-256 (x (1).img) = " + sha256, "SHA256 (x.img) = " + md5, "SHA384 (x.img) = " + strings.Repeat("0", 96), "SHA-1 (x.img) = " + strings.Repeat("0", 40), "CRC32 (x.img) = " + crc, "sha256 (x.img) = " + sha256, `\SHA256 (a\\b) = ` + sha256,
		"# a comment", "", "x.img", "x.img " + md5, md5 + "  x.img\r", "\ufeff" + md5 + "  x.img", "# c\n\n" + md5 + "  x.img", md5 + "  x.img\nnonsense\n" + sha256 + "  y.img", "nonsense\n" + md5 + "  x.img", strings.Repeat("a", 40) + "  x.img", strings.Repeat("a", 41) + "  x.img", strings.Repeat("a", 128) + "  x.img", strings.Repeat("g", 32) + "  x.img",
	} {
		out, _ := read([]byte(s))
		fmt.Fprintf(&b, "%q\n    %s\n", s, out)
	}
	pagetest.Random(&b, "lists", 2000, [][]byte{[]byte(md5), []byte(sha256), []byte("  "), []byte(" *"), []byte("x.img"), []byte("\n"), []byte("MD5 ("), []byte(") = "), []byte("\\"), []byte("# "), []byte("\r\n")}, read)
	pagetest.Hold(t, filepath.Join("testdata", "sums.txt"), b.String())
}
