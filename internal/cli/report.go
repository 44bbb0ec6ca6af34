package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/renameio/v2"

	"fitcheck/core/evidence"
	"fitcheck/core/fact"
	"fitcheck/internal/present"
)

// sources fetches what the verdicts to be shown in full cite, when that is
// asked for.
func (m *matching) sources(ctx context.Context, c *call, answers []present.Answer) (present.Evidence, error) {
	if !m.evidence && m.report == "" {
		return nil, nil
	}
	o := evidence.Options{KitDir: m.k.Dir, Limits: c.limits, Packages: map[string]string{}}
	var cited []fact.Source
	for _, a := range answers {
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

// writeReport writes the report; a file that is there is kept without -replace.
func (m *matching) writeReport(answers []present.Answer, e present.Evidence) error {
	if _, err := os.Lstat(m.report); err == nil && !m.replace {
		return fmt.Errorf("%s: the file is there already; give another name, or -replace", m.report)
	} else if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	r := present.Report{Answers: answers, Surveys: m.surveys, Evidence: e, Made: time.Now(), Version: Version}
	var b bytes.Buffer
	write := r.HTML
	if strings.EqualFold(filepath.Ext(m.report), ".md") {
		write = r.Markdown
	}
	if err := write(&b); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(m.report), 0o755); err != nil {
		return err
	}
	return renameio.WriteFile(m.report, b.Bytes(), 0o644)
}
