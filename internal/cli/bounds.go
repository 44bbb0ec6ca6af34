package cli

import (
	"flag"
	"fmt"

	"fitcheck/core/archive"
	"fitcheck/core/yamlfile"
)

// boundFlag names the flag of each bound.
var boundFlag = map[string]string{
	archive.BoundDepth: "-max-depth", archive.BoundItems: "-max-items", archive.BoundFiles: "-max-files", archive.BoundBytes: "-max-bytes",
	archive.BoundItemRatio: "-max-ratio", archive.BoundTotalRatio: "-max-total-ratio", archive.BoundText: "-max-text",
	archive.BoundWindow: "-max-window", archive.BoundRecords: "-max-records", archive.BoundValues: "-max-values", archive.BoundFacts: "-max-facts",
}

// boundFlags declares the flags of the bounds that hold for what packages
// hold.
func (c *call) boundFlags(f *flag.FlagSet) {
	l := &c.limits
	f.IntVar(&l.Depth, "max-depth", l.Depth, "archives, compressed layers and image parts that may lie in each other")
	f.Int64Var(&l.Items, "max-items", l.Items, "items, parts of images included")
	f.Int64Var(&l.Files, "max-files", l.Files, "files of file systems")
	f.Var((*size)(&l.Bytes), "max-bytes", "bytes that are read or inflated in all, as a `SIZE`")
	f.Int64Var(&l.ItemRatio, "max-ratio", l.ItemRatio, "inflated to packed bytes of one item, once past 64 MiB")
	f.Int64Var(&l.TotalRatio, "max-total-ratio", l.TotalRatio, "inflated to packed bytes in all, once past 1 GiB")
	f.Var((*size)(&l.Window), "max-window", "memory that one compressed stream may ask for, as a `SIZE`")
	f.IntVar(&l.Records, "max-records", l.Records, "records of one manifest")
	f.IntVar(&l.Values, "max-values", l.Values, "values of one list of a manifest")
	f.IntVar(&l.Facts, "max-facts", l.Facts, "facts that one manifest expands to, its headings for each record")
	f.Var((*size)(&l.Text), "max-text", "bytes of one manifest, list or note, as a `SIZE`")
}

// size is a flag of a number of bytes, such as 16GiB.
type size int64

func (s *size) String() string {
	n := int64(*s)
	for _, u := range []struct {
		unit  int64
		words string
	}{{1 << 30, "GiB"}, {1 << 20, "MiB"}} {
		if n >= u.unit && n%u.unit == 0 {
			return fmt.Sprintf("%d%s", n/u.unit, u.words)
		}
	}
	return fmt.Sprint(n)
}

func (s *size) Set(text string) error {
	n, err := yamlfile.ParseSize(text)
	if err == nil && n <= 0 {
		err = fmt.Errorf("a bound must be above zero")
	}
	*s = size(n)
	return err
}
