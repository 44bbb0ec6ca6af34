package tftp

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"fitcheck/core/tftp/tftptest"
	"fitcheck/internal/pagetest"
)

// TestWhatIsSent holds every packet of little transfers, and when it was sent, as nothing is lost, and as one packet of one
// side is lost or comes twice, against testdata/traces.txt.
func TestWhatIsSent(t *testing.T) {
	var b strings.Builder
	for _, c := range []struct {
		put           bool
		size, window  int
		block, served int
	}{{false, 1300, 0, 0, 0}, {true, 1300, 0, 0, 0}, {false, 3000, 3, 500, 500}, {true, 3000, 3, 500, 400}, {false, 0, 2, 500, 500}} {
		sound := trace(t, c.put, c.size, c.window, c.block, c.served, nil)
		fmt.Fprintf(&b, "## put %v, %d bytes, window %d, blocks %d and %d\n%s\n", c.put, c.size, c.window, c.block, c.served, strings.Join(sound, "\n"))
		for _, client := range []bool{true, false} {
			for _, what := range []struct {
				name  string
				times int
			}{{"lost", 0}, {"twice", 2}} {
				if c.window > 0 && what.times != 0 {
					continue // what two sides send at one moment comes in no order
				}
				for k := range 4 {
					if !client && k == 0 {
						continue // both sides try again at one moment
					}
					got := trace(t, c.put, c.size, c.window, c.block, c.served, func(fromClient bool, n int) int {
						if fromClient == client && n == k {
							return what.times
						}
						return 1
					})
					if slices.Equal(got, sound) {
						continue
					}
					fmt.Fprintf(&b, "packet %d of the %s %s: %s\n", k, map[bool]string{true: "client", false: "server"}[client], what.name, strings.Join(got, "; "))
				}
			}
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "traces.txt"), b.String())
}

// trace lists what is sent in one transfer: when, by whom, and what; by the sides, for those that send at one moment do so
// in no order.
func trace(t *testing.T, put bool, size, window, block, served int, spoil func(fromClient bool, n int) int) []string {
	var lines [2][]string
	var when [2][]time.Duration
	synctest.Test(t, func(t *testing.T) {
		begun := time.Now()
		var mu sync.Mutex
		n := &tftptest.Network{}
		n.Spoil = func(from, _ *net.UDPAddr, data []byte) int {
			mu.Lock()
			defer mu.Unlock()
			side := 1
			if from.IP.Equal(tftptest.Host(2)) {
				side = 0
			}
			times := 1
			if spoil != nil {
				times = spoil(side == 0, len(lines[side]))
			}
			said := "no packet"
			if p, err := parse(data); err == nil {
				switch p.op {
				case opData:
					said = fmt.Sprintf("data %d, %d bytes", p.block, len(p.data))
				case opAck:
					said = fmt.Sprintf("ack %d", p.block)
				case opError:
					said = fmt.Sprintf("error %d %s", p.code, p.message)
				default:
					said = fmt.Sprintf("op %d %s %v", p.op, p.name, p.options)
				}
			}
			lines[side] = append(lines[side], fmt.Sprintf("%s %s %s", time.Since(begun), []string{"→", "←"}[side], said))
			when[side] = append(when[side], time.Since(begun))
			return times
		}
		file := noise(size)
		addr, taken := serve(t, n, file, Options{BlockSize: served, Window: window, Timeout: time.Second, Retries: 5})
		o := client(n, block)
		o.Window, o.Retries = window, 5
		how := ""
		if put {
			err := Put(context.Background(), addr, "x", bytes.NewReader(file), int64(size), o)
			time.Sleep(time.Minute)
			if got := taken("x"); err == nil && (got == nil || !bytes.Equal(got.Bytes(), file)) {
				how = ", and another file came"
			}
			how = fmt.Sprintf("ended with %v%s", err, how)
		} else {
			var got bytes.Buffer
			_, err := Get(context.Background(), addr, "image.bin", &got, o)
			if err == nil && !bytes.Equal(got.Bytes(), file) {
				how = ", and another file came"
			}
			how = fmt.Sprintf("ended with %v%s", err, how)
			time.Sleep(time.Minute)
		}
		mu.Lock()
		lines[0], when[0] = append(lines[0], how), append(when[0], time.Since(begun))
		mu.Unlock()
	})
	var out []string
	for len(lines[0])+len(lines[1]) > 0 {
		side := 0
		if len(lines[0]) == 0 || len(lines[1]) > 0 && when[1][0] < when[0][0] {
			side = 1
		}
		out = append(out, lines[side][0])
		lines[side], when[side] = lines[side][1:], when[side][1:]
	}
	return out
}
