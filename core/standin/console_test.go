package standin

import (
	"bufio"
	"context"
	"io"
	"net"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
)

// pipes is a listener whose connections are pipes in memory.
type pipes struct {
	conns  chan net.Conn
	closed chan struct{}
}

func (p *pipes) Accept() (net.Conn, error) {
	select {
	case c := <-p.conns:
		return c, nil
	case <-p.closed:
		return nil, net.ErrClosed
	}
}

func (p *pipes) Close() error   { close(p.closed); return nil }
func (p *pipes) Addr() net.Addr { return &net.TCPAddr{} }

// Who types at a stand-in sees what was typed, what it says to that, and its prompt; while it restarts nothing is
// answered, and then it says that it has started.
func TestConsole(t *testing.T) {
	u, _, _ := bench(t, "cabinet-07")
	synctest.Test(t, func(t *testing.T) {
		u.Restarts = 40 * time.Second
		var typed []string
		u.Tell = func(text string) {
			if strings.HasPrefix(text, "typed: ") {
				typed = append(typed, text)
			}
		}
		ctx, stop := context.WithCancel(context.Background())
		l := &pipes{make(chan net.Conn), make(chan struct{})}
		done := make(chan error, 1)
		go func() { done <- u.Console(ctx, l) }()
		here, there := net.Pipe()
		l.conns <- there
		in := bufio.NewReader(here)
		until := func(end string) string {
			var got strings.Builder
			for !strings.HasSuffix(got.String(), end) {
				b, err := in.ReadByte()
				require.NoError(t, err)
				got.WriteByte(b)
			}
			return got.String()
		}
		const prompt = "cabinet-07> "
		send := func(text string) {
			_, err := io.WriteString(here, text)
			require.NoError(t, err)
		}
		assert.Equal(t, prompt, until(prompt))
		send("\r\n")
		assert.Equal(t, prompt, until(prompt), "an empty line is no command")
		send("  show\x07 system \r\n")
		says := until(prompt)
		assert.True(t, strings.HasPrefix(says, "show system\r\n"), says)
		assert.Contains(t, says, "QM-8T")
		assert.Equal(t, []string{"typed: show system"}, typed)
		begun := time.Now()
		send("restart now\r\n")
		assert.True(t, strings.HasSuffix(until(prompt), "\r\nstarted\r\n"+prompt))
		assert.Equal(t, 40*time.Second, time.Since(begun))
		send("restart now\r\n")
		until("\r\n")
		stop()
		assert.NoError(t, <-done, "it ends while it restarts, too")
	})
}

// A line that is longer than a console takes ends the connection.
func TestConsoleIsBounded(t *testing.T) {
	u := &Upgrade{Box: &member.Member{Device: &device.Device{}}}
	here, there := net.Pipe()
	over := make(chan struct{})
	go func() {
		u.talk(context.Background(), there)
		there.Close()
		close(over)
	}()
	go io.Copy(io.Discard, here)
	_, err := io.WriteString(here, strings.Repeat("x", longestCommand+1))
	_ = err // it may have hung up while this was written
	<-over
}

// sent counts what goes out.
type sent struct {
	net.PacketConn
	n int
}

func (s *sent) WriteTo(b []byte, _ net.Addr) (int, error) {
	s.n++
	return len(b), nil
}

// A network that loses all loses all, and one that loses nothing, nothing.
func TestLosing(t *testing.T) {
	for percent, want := range map[int]int{0: 2000, 100: 0} {
		out := &sent{}
		l := &losing{out, percent}
		for range 2000 {
			n, err := l.WriteTo([]byte("abc"), nil)
			require.NoError(t, err)
			require.Equal(t, 3, n, "who sends does not know")
		}
		assert.Equal(t, want, out.n, "%d%%", percent)
	}
}

// What is fetched without a slot goes into the slot that does not run, where the component lies in slots at all.
func TestFetchedWithoutASlot(t *testing.T) {
	u, k, _ := bench(t, "cabinet-07")
	assert.True(t, u.slotted("main"))
	assert.False(t, u.slotted("poe"))
	assert.False(t, u.slotted("no-such"))
	u.take("x/y.img", "", []byte("y"))
	assert.Equal(t, "B", u.stored["main"].slot)
	u.slots = nil
	assert.False(t, u.slotted("main"), "it has none")
	d, err := k.Device("cabinet-07")
	require.NoError(t, err)
	unknown := &Upgrade{Box: member.Resolve(d, &rulebook.Rulebook{}), slots: []bank{{name: "A"}}}
	assert.True(t, unknown.slotted("main"), "of a family that is not known, the system image")
	assert.False(t, unknown.slotted("boot"))
	unknown.slots = nil
	assert.False(t, unknown.slotted("main"))
}
