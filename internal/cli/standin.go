package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"sync"
	"time"

	"fitcheck/core/device"
	"fitcheck/core/kit"
	"fitcheck/core/member"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
	"fitcheck/core/standin"
	"fitcheck/core/transport"
	"fitcheck/internal/present"
)

var standInCommand = register(&command{
	name: "stand-in", order: 160, args: "-device D [-upgrade]", tells: true,
	part: partRest, example: "stand-in -device platform-2 -once",
	short: "play a device: one that waits in its boot loader, or one that is upgraded",
	long: `Answers on the loopback address by the rulebook's recovery of D: first as the old system,
then as the boot loader that waits, takes an image by TFTP, writes it and restarts. It drops
what a real one would drop. -loss loses packets. Runs until it is interrupted, or until the
device has restarted and answered with -once. With -upgrade it is a device that runs, with a
console on a TCP port: it takes the commands of its rulebook's wording, fetches from serve,
writes a slot, forgets a choice that was not saved, restarts, and shows its state as the
rulebook's captures are read. -fail-first lets fetches fail.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		name := f.String("device", "", "the `device` to play: a file, or a name in the kit's devices/")
		address := f.String("address", "127.0.0.1", "the `address` to answer on")
		port := f.Int("port", 6969, "the UDP `port` for the transfer")
		echo := f.Int("echo", 7007, "the UDP `port` for echo requests")
		s := &standin.StandIn{}
		f.DurationVar(&s.OldFor, "old", 3*time.Second, "how long the old system answers")
		f.DurationVar(&s.DeadFor, "dead", time.Second, "how long nothing does")
		f.DurationVar(&s.WaitFor, "wait", 0, "how long the boot loader waits; else as the rulebook says")
		f.DurationVar(&s.WriteFor, "write", 3*time.Second, "how long it writes")
		f.IntVar(&s.Loss, "loss", 0, "how many of a hundred packets are lost")
		once := f.Bool("once", false, "end when the device has restarted and was seen to answer")
		up := &upgrading{}
		up.flags(f)
		out := f.String("out", "", "write what it runs in the end to this `file`")
		return func(ctx context.Context, c *call, args []string) (int, error) {
			switch {
			case *name == "":
				return 0, usagef("stand-in needs -device: a device file, or a name in the kit's devices/")
			case len(args) > 0:
				return 0, usagef("stand-in takes no arguments; unexpected %q", args[0])
			case s.Loss < 0 || s.Loss > 90:
				return 0, usagef("-loss takes a number from 0 to 90")
			}
			k, err := c.kit()
			if err != nil {
				return 0, err
			}
			devices, err := k.Devices([]string{*name})
			if err != nil {
				return 0, err
			}
			d := devices[0]
			if up.on {
				return up.run(ctx, c, k, d)
			}
			rb, err := k.RulebookFor(d.Model.Text)
			if err != nil {
				return 0, err
			}
			if rb == nil {
				return 0, fmt.Errorf("no rulebook knows the model of %s", d.File)
			}
			box := path.NewBox(d, rb)
			rule, _ := rb.RecoveryFor(box.Model, box.Revision)
			if rule == nil {
				return 0, fmt.Errorf("%s has no recovery for %s %s; add one, or give another device", rb.File, box.Model, box.Revision)
			}
			s.Rule, s.Rules, s.Model, s.Board, s.Formats = rule, rb, box.Model, box.Revision, k.Formats
			if s.WaitFor == 0 {
				if s.WaitFor = rule.Transfer.Within.Time; s.WaitFor == 0 {
					s.WaitFor = 20 * time.Second
				}
			}
			ip := net.ParseIP(*address)
			if ip == nil {
				return 0, usagef("-address takes an address, not %q", *address)
			}
			if s.Echo, err = net.ListenUDP("udp4", &net.UDPAddr{IP: ip, Port: *echo}); err != nil {
				return 0, fmt.Errorf("the port for echo requests cannot be opened: %w; give another with -echo", err)
			}
			defer s.Echo.Close()
			boot, err := net.ListenUDP("udp4", &net.UDPAddr{IP: ip, Port: *port})
			if err != nil {
				return 0, fmt.Errorf("the port for the transfer cannot be opened: %w; give another with -port", err)
			}
			defer boot.Close()
			s.Boot = boot
			inner, stop := context.WithCancel(ctx)
			defer stop()
			screen := c.screen()
			s.Tell = func(state standin.State, text string) {
				if c.json {
					_ = present.WriteLine(c.env.Stdout, present.StandInJSON(string(state), text))
					return
				}
				screen.Show(present.StandIn(string(state), text))
			}
			if *once {
				s.Seen = stop
			}
			if c.json {
				_ = present.WriteLine(c.env.Stdout, present.StandInJSON("ready", s.Boot.LocalAddr().String()))
			} else {
				screen.Show(present.StandInBegins(d.Name.Text, s.Echo.LocalAddr().String(), s.Boot.LocalAddr().String()))
			}
			err = s.Run(inner)
			if *out != "" && s.Image() != nil {
				err = os.WriteFile(*out, s.Image(), 0o644)
			}
			return exitFits, err
		}
	},
})

// upgrading is a stand-in that is upgraded.
type upgrading struct {
	on        bool
	console   string
	server    string
	failFirst int
	restarts  time.Duration
}

func (u *upgrading) flags(f *flag.FlagSet) {
	f.BoolVar(&u.on, "upgrade", false, "play a device that runs and is upgraded")
	f.StringVar(&u.console, "console", "127.0.0.1:2323", "with -upgrade: the `ADDRESS:PORT` of its console")
	f.StringVar(&u.server, "fetch-from", "", "with -upgrade: fetch from this `ADDRESS:PORT`, whatever server a command names")
	f.IntVar(&u.failFirst, "fail-first", 0, "with -upgrade: how `many` fetches fail before one does not")
	f.DurationVar(&u.restarts, "restart", 3*time.Second, "with -upgrade: how `long` a restart takes")
}

// fetch gets a file by the protocol that the rulebook names.
func (u *upgrading) fetch(ctx context.Context, rb *rulebook.Rulebook, server, name string) ([]byte, error) {
	by := transport.TFTP
	if rb.Transfer != nil {
		for _, p := range transport.Protocols() {
			if p.Name == rb.Transfer.Protocol.Text && !p.Logins {
				by = p
			}
		}
	}
	address, err := by.WithPort(cmp.Or(u.server, server))
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = by.Fetch(ctx, address, name, nil, &bounded{&b, 1 << 30}, nil)
	return b.Bytes(), err
}

// bounded refuses more than a device could hold.
type bounded struct {
	*bytes.Buffer
	left int
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.left -= len(p); b.left < 0 {
		return 0, errors.New("the file is larger than the device could hold")
	}
	return b.Buffer.Write(p)
}

func (u *upgrading) run(ctx context.Context, c *call, k *kit.Kit, d *device.Device) (int, error) {
	if len(d.Members) > 0 {
		return 0, usagef("stand-in -upgrade plays one box, and %s has %d members", d.Name.Text, len(d.Members))
	}
	rb, err := k.RulebookFor(d.Model.Text)
	if err != nil {
		return 0, err
	}
	s := &standin.Upgrade{Box: member.Resolve(d, rb), Formats: k.Formats, FailFirst: u.failFirst, Restarts: u.restarts}
	s.Fetch = func(ctx context.Context, server, name string) ([]byte, error) { return u.fetch(ctx, rb, server, name) }
	var mu sync.Mutex
	s.Tell = func(text string) {
		mu.Lock()
		defer mu.Unlock()
		if c.json {
			_ = present.WriteLine(c.env.Stdout, present.StandInJSON("upgrade", text))
			return
		}
		c.screen().Show(present.StandIn("", text))
	}
	if err := s.Begin(); err != nil {
		return 0, err
	}
	l, err := net.Listen("tcp", u.console)
	if err != nil {
		return 0, fmt.Errorf("the console cannot be opened: %w; give another address with -console", err)
	}
	defer l.Close()
	if c.json {
		_ = present.WriteLine(c.env.Stdout, present.StandInJSON("console", l.Addr().String()))
	} else {
		c.screen().Show(present.StandInConsole(d.Name.Text, l.Addr().String()))
	}
	return exitFits, s.Console(ctx, l)
}
