package survey

import (
	"context"
	"fitcheck/core/archive"
	"os"
	"testing"
)

func TestZZ(t *testing.T) {
	f := os.Getenv("ZZ")
	if f == "" {
		t.Skip()
	}
	s, err := Run(context.Background(), f, Options{Limits: archive.DefaultLimits(), Undigested: true})
	if err != nil {
		t.Fatal(err)
	}
	t.Log(len(s.Items))
}
