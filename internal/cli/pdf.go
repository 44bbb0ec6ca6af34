package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime/metrics"
	"time"

	"fitcheck/core/duration"
	"fitcheck/core/notes"
)

// PDFs are read by a library that hostile files can lead round in circles or to
// any amount of memory. So the program calls itself for them, gives the file on
// the standard input, and ends that process when it takes too long or too much.
const (
	pdfCommand = "read-pdf"
	pdfTime    = 4 * time.Second  // of the processor
	pdfWaits   = 10 * time.Minute // by the clock, for one that waits for something
	pdfMemory  = 768 << 20

	exitTooLong = 5 // of that process
)

type pdfAnswer struct {
	Lines []notes.Line
	Error string
}

func readPDF(data []byte) ([]notes.Line, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("the PDF cannot be read here: %w; save it as text", err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), pdfWaits)
	defer cancel()
	c := exec.CommandContext(ctx, self, pdfCommand)
	c.Stdin = bytes.NewReader(data)
	var out bytes.Buffer
	c.Stdout = &out
	err = c.Run()
	var answer pdfAnswer
	switch {
	case ctx.Err() != nil, c.ProcessState.ExitCode() == exitTooLong:
		return nil, fmt.Errorf("reading the PDF takes more than %s of the processor's time, and was given up; save it as text", duration.Text(pdfTime))
	case err != nil:
		return nil, fmt.Errorf("the PDF is damaged or takes more than %d MiB of memory; save it as text", pdfMemory>>20)
	case json.Unmarshal(out.Bytes(), &answer) != nil:
		return nil, errors.New("the PDF cannot be read; save it as text")
	case answer.Error != "":
		return nil, errors.New(answer.Error)
	}
	return answer.Lines, nil
}

// servePDF is the other side.
func servePDF(env Env) int {
	go func() {
		sample := []metrics.Sample{{Name: "/memory/classes/total:bytes"}}
		for {
			if metrics.Read(sample); sample[0].Value.Uint64() > pdfMemory {
				os.Exit(exitUnreadable)
			}
			if used, ok := processorTime(); ok && used > pdfTime {
				os.Exit(exitTooLong)
			}
			time.Sleep(5 * time.Millisecond)
		}
	}()
	data, err := io.ReadAll(io.LimitReader(os.Stdin, notes.MaxBytes+1))
	var answer pdfAnswer
	if err == nil {
		answer.Lines, err = notes.PDF(data)
	}
	if err != nil {
		answer.Error = err.Error()
	}
	if json.NewEncoder(env.Stdout).Encode(answer) != nil {
		return exitUnreadable
	}
	return exitFits
}
