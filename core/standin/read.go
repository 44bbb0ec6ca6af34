package standin

import (
	"fitcheck/core/archive"
	"fitcheck/core/image"
)

// readImage reads the header of an image as a boot loader would.
func readImage(formats *image.Set, data []byte) (format string, m *image.Image) {
	head := data[:min(len(data), archive.HeadSize)]
	r := image.Begin(formats, head, int64(len(data)), false)
	_, _ = r.Write(data)
	format, m, err := r.End(archive.Memory("image", data))
	if err != nil {
		return "unknown", nil
	}
	return format, m
}
