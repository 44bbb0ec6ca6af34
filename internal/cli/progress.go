package cli

import (
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"

	"fitcheck/core/archive"
)

// Work that takes longer than patience shows how far it is.
const (
	patience = time.Second
	redraw   = 200 * time.Millisecond
)

// watch shows the progress of long work on a terminal, with its rate and the
// time left, until the function that it returns is called.
func (c *call) watch(what string) (p *archive.Progress, stop func()) {
	p = &archive.Progress{}
	if !c.env.StderrTerminal || c.quiet {
		return p, func() {}
	}
	done, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		c.draw(what, p, done)
	}()
	var once sync.Once
	return p, func() {
		once.Do(func() { close(done) })
		<-gone
	}
}

func (c *call) draw(what string, p *archive.Progress, done <-chan struct{}) {
	select {
	case <-done:
		return
	case <-time.After(patience):
	}
	bar := progressbar.NewOptions64(p.Total(), progressbar.OptionSetWriter(c.env.Stderr), progressbar.OptionSetDescription(what),
		progressbar.OptionShowBytes(true), progressbar.OptionSetPredictTime(true), progressbar.OptionSetWidth(24), progressbar.OptionClearOnFinish())
	tick := time.NewTicker(redraw)
	defer tick.Stop()
	for {
		bar.ChangeMax64(max(p.Total(), p.Done()+1)) // it ends when the work does
		bar.Set64(p.Done())
		select {
		case <-done:
			bar.Clear()
			return
		case <-tick.C:
		}
	}
}
