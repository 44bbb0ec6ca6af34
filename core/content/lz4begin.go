package content

// lz4Begin inflates the beginning of an LZ4 block (LZ4 Block Format), as much as dst takes:
// what follows in src is not looked at. The library inflates whole blocks only.
func lz4Begin(dst, src []byte) (int, error) {
	out, in := 0, 0
	length := func(n int) (int, bool) { // that goes on in further bytes after 15
		if n < 15 {
			return n, true
		}
		for in < len(src) {
			b := src[in]
			in++
			if n += int(b); b < 255 || n > len(dst)+15 {
				return n, true
			}
		}
		return n, false
	}
	for out < len(dst) && in < len(src) {
		token := src[in]
		in++
		literals, ok := length(int(token >> 4))
		if !ok || in+min(literals, len(dst)-out) > len(src) {
			return out, damaged("it does not inflate (lz4)")
		}
		copied := copy(dst[out:], src[in:min(len(src), in+literals)])
		out += copied
		in += literals
		if out == len(dst) || in >= len(src) {
			break
		}
		if in+2 > len(src) {
			return out, damaged("it does not inflate (lz4)")
		}
		back := int(src[in]) | int(src[in+1])<<8
		in += 2
		match, ok := length(int(token & 15))
		if match += 4; !ok || back == 0 || back > out {
			return out, damaged("it does not inflate (lz4)")
		}
		for match = min(match, len(dst)-out); match > 0; {
			n := copy(dst[out:out+match], dst[out-back:out])
			out += n
			match -= n
		}
	}
	return out, nil
}
