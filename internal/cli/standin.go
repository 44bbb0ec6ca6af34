package cli

import (
	"context"
	"flag"
	"fmt"
	"net"
	"os"
	"time"

	"fitcheck/core/path"
	"fitcheck/core/standin"
	"fitcheck/internal/present"
)

var standInCommand = &command{
	name: "stand-in", args: "-device D",
	part: partRest, example: "stand-in -device platform-2 -once",
	short: "play a device that waits in its boot loader, to try recover -watch on",
	long: `Answers on the loopback address by the rulebook's recovery of D: first as the old system,
then as the boot loader that waits, takes an image by TFTP, writes it and restarts. It drops
what a real one would drop. -loss loses packets. Runs until it is interrupted, or until the
device has restarted and answered with -once.`,
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
			s.Tell = func(state standin.State, text string) { screen.Show(present.StandIn(string(state), text)) }
			if *once {
				s.Seen = stop
			}
			screen.Show(present.StandInBegins(d.Name.Text, s.Echo.LocalAddr().String(), s.Boot.LocalAddr().String()))
			err = s.Run(inner)
			if *out != "" && s.Image() != nil {
				err = os.WriteFile(*out, s.Image(), 0o644)
			}
			return exitFits, err
		}
	},
}
