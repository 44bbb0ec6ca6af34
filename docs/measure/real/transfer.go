package main

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"net"
	"time"

	"fitcheck/core/tftp"
	"fitcheck/core/tftp/tftptest"
)

// transfer sends a megabyte by TFTP over a line that loses one packet in twenty each way; the measure runs it as a
// program of its own.
func transfer() {
	const size, block = 1_000_000, 1428
	line := &tftptest.Network{}
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	line.Spoil = func(_, _ *net.UDPAddr, _ []byte) int {
		if r.IntN(20) == 0 {
			return 0
		}
		return 1
	}
	file := bytes.Repeat([]byte("tramway\n"), size/8)
	conn := line.Listen(tftptest.Host(1), 69)
	server := &tftp.Server{Conn: conn, Listen: line.Opener(tftptest.Host(1)), Options: tftp.Options{BlockSize: block, Timeout: time.Second, Retries: 20},
		Send: func(*net.UDPAddr, string) (io.ReadCloser, int64, error) {
			return io.NopCloser(bytes.NewReader(file)), int64(len(file)), nil
		}}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go func() { must(server.Serve(ctx)) }()
	n, err := tftp.Get(ctx, conn.LocalAddr().(*net.UDPAddr), "image.bin", io.Discard, tftp.Options{BlockSize: block, Timeout: time.Second, Retries: 20, Listen: line.Opener(tftptest.Host(2))})
	must(err)
	if n != int64(len(file)) {
		panic("not all of it came over")
	}
}
