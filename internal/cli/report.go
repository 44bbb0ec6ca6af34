package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/renameio/v2/maybe"

	"fitcheck/core/evidence"
	"fitcheck/core/fact"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

// sources fetches what the verdicts to be shown in full cite, when that is
// asked for.
func (m *matching) sources(ctx context.Context, c *call, answers []present.Answer) (present.Evidence, error) {
	if !m.evidence && c.report == "" {
		return nil, nil
	}
	o := evidence.Options{KitDir: m.k.Dir, Limits: c.limits, Packages: map[string]string{}}
	var cited []fact.Source
	for _, a := range answers {
		if a.Like != nil {
			continue // it is told by the one that it is like
		}
		o.Beside = append(o.Beside, a.Device.File)
		for _, s := range m.surveys {
			if strings.Contains(" + "+a.Verdicts[0].Path+" + ", " + "+s.Path+" + ") {
				o.Packages[s.Name] = s.Path
			}
		}
		cited = append(cited, present.Cited(a.Verdicts[0])...)
	}
	return evidence.Collect(ctx, cited, o)
}

// writeNew writes a file for the user, whole or not at all; one that is there
// is kept without -replace.
func writeNew(file string, replace bool, write func(b *strings.Builder) error) error {
	if _, err := os.Lstat(file); err == nil && !replace {
		return fmt.Errorf("%s: the file is there already; give another name, or -replace", file)
	} else if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	var b, guarded strings.Builder
	if err := write(&b); err != nil {
		return err
	}
	guard := page.NewGuard(&guarded, false)
	if _, err := io.WriteString(guard, b.String()); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return maybe.WriteFile(file, []byte(guarded.String()), 0o644)
}
