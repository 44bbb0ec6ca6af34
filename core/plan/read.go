package plan

import (
	"bytes"
	"context"
	"fmt"
	"sync"

	"fitcheck/core/archive"
	y "fitcheck/core/yamlfile"
)

// ReadItem reads one item of a package into memory, at most so many bytes.
func ReadItem(ctx context.Context, pkg, address string, most int64, limits archive.Limits) ([]byte, error) {
	k := &keeper{address: address, most: most}
	if err := archive.Walk(ctx, pkg, limits, k); err != nil {
		return nil, err
	}
	switch {
	case k.long:
		return nil, fmt.Errorf("%s: it has more than %s", address, y.FormatSize(most))
	case !k.found:
		return nil, fmt.Errorf("%s: there is no item of this address any more", address)
	}
	return k.data.Bytes(), nil
}

type keeper struct {
	mu      sync.Mutex
	address string
	most    int64
	data    bytes.Buffer
	found   bool
	long    bool
}

func (k *keeper) Report(archive.Problem) {}

func (k *keeper) Begin(it *archive.Item, _ []byte) archive.Sink {
	k.mu.Lock()
	defer k.mu.Unlock()
	if it.Address != k.address || k.found {
		return skip{}
	}
	k.found = true
	return keeping{k}
}

type keeping struct{ k *keeper }

func (w keeping) Write(p []byte) (int, error) {
	if w.k.long = w.k.long || int64(w.k.data.Len()+len(p)) > w.k.most; !w.k.long {
		w.k.data.Write(p)
	}
	return len(p), nil
}

func (keeping) End(*archive.Content, []archive.Problem) error { return nil }
