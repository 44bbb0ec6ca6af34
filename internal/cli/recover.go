package cli

import (
	"context"
	"flag"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"

	"fitcheck/core/device"
	"fitcheck/core/duration"
	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/core/rescue"
	"fitcheck/core/survey"
	"fitcheck/core/tftp"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "recover", order: 130, args: "-device D PACKAGE…", tells: true, reads: true, folds: []string{page.Why}, reports: true,
	part: partNight, example: "recover -device platform-2 packages/vr510-recovery-3.4.0.zip",
	short: "it does not start: which image will its boot loader take, and how?",
	long: `For a device whose state is boot-loader or silent. Which image the boot loader accepts, by
the rulebook's recovery: format, component, size, wrapped or not, and whether it is for this
model and revision, checked like any match; then the steps, what is stored on the device
first. Without PACKAGE the kit's packages are looked through. -watch does it: it shows what
answers, sends (or offers) exactly the image that was checked by TFTP when the boot loader
waits, and says when the system answers again. That needs no special rights: where the
system does not allow pings, it goes by the transfer's answer alone.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		r := &recovering{}
		f.StringVar(&r.device, "device", "", "the `device`: a file, or a name in the kit's devices/")
		f.BoolVar(&r.watch, "watch", false, "watch what answers, and send the image when the boot loader waits")
		f.StringVar(&r.address, "address", "", "the `address` of the boot loader, where it is not the rulebook's")
		f.IntVar(&r.port, "port", 0, "the UDP `port` of the transfer, where it is not the rulebook's")
		f.StringVar(&r.probe, "probe", "icmp", "`how` to ask what answers: icmp, udp:PORT (an echo service), or none")
		f.DurationVar(&r.within, "for", 5*time.Minute, "how long to try")
		f.DurationVar(&r.settle, "settle", 0, "how long to wait for the system; else as the rulebook says")
		f.StringVar(&r.evenIf, "even-if", "", "unsettled: also send what is not settled")
		return func(ctx context.Context, c *call, args []string) (int, error) {
			switch {
			case r.device == "":
				return 0, usagef("recover needs -device: a device file, or a name in the kit's devices/")
			case r.evenIf != "" && r.evenIf != "unsettled":
				return 0, usagef("-even-if takes unsettled, not %q; a misfit is never sent", r.evenIf)
			case r.port < 0 || r.port > 65535:
				return 0, usagef("-port takes a number from 1 to 65535")
			case r.within <= 0 || r.settle < 0:
				return 0, usagef("-for and -settle take a time, as in 5m")
			}
			return r.run(ctx, c, args)
		}
	},
})

type recovering struct {
	device, address, probe, evenIf string
	watch                          bool
	port                           int
	within, settle                 time.Duration
}

func (r *recovering) run(ctx context.Context, c *call, args []string) (int, error) {
	p, err := newPlanning(ctx, c, &wayfinding{}, args)
	if err != nil {
		return 0, err
	}
	d, err := p.one(r.device, "recover")
	if err != nil {
		return 0, err
	}
	if len(d.Members) > 0 {
		return 0, usagef("recover is for one box at a time; give the device file of the one that does not start")
	}
	rules, err := p.rulesFor(d)
	if err != nil {
		return 0, err
	}
	packages := p.given
	if len(args) == 0 {
		if packages, err = p.kits(ctx, c, d, rules); err != nil {
			return 0, err
		}
	}
	found := plan.Recover(d, rules, packages, fit.Options{NoRulebook: func(d *device.Device) string { return noRulebook(p.k, d) }})
	status := statusOf(found.Verdict)
	doc := present.Recovered{Recovery: found}
	if found.Rule != nil && found.Chosen != nil {
		doc.Host, doc.HostFits = plan.HostAddress(ownAddresses(), found.Rule.Network.Host.Text)
	}
	if !r.watch {
		return status, c.tell(present.RecoverJSON(doc), present.RecoveryPage(doc, nil))
	}
	if found.Chosen == nil || found.Verdict == fit.Misfit || found.Verdict == fit.Unsettled && r.evenIf == "" {
		return max(status, exitMisfit), c.tell(present.RecoverJSON(doc), present.RecoveryPage(doc, nil))
	}
	return r.bringBack(ctx, c, doc)
}

// kits are the packages of the kit in which a quick look finds something that
// may do, read in full.
func (p *planning) kits(ctx context.Context, c *call, d *device.Device, rules plan.Rules) ([]*survey.Survey, error) {
	looked, err := p.look(ctx, c, d)
	if err != nil {
		return nil, err
	}
	var out []*survey.Survey
	for _, s := range looked {
		found := plan.Recover(d, rules, []*survey.Survey{s}, fit.Options{})
		if found.Chosen == nil || found.Verdict == fit.Misfit {
			continue
		}
		full, err := p.read(ctx, c, s.Path)
		if err != nil {
			return nil, err
		}
		out = append(out, full)
	}
	return out, nil
}

// bringBack does it.
func (r *recovering) bringBack(ctx context.Context, c *call, doc present.Recovered) (int, error) {
	w, err := r.guard(ctx, c, doc)
	if err != nil {
		return 0, err
	}
	if w.Listen != nil {
		defer w.Listen.Close()
	}
	s := c.screen()
	if !c.json {
		s.Show(present.RecoveryBegins(doc, w.Device.IP.String(), w.Device.Port))
	}
	if w.Prober, err = r.prober(w.Device.IP); err != nil {
		w.Prober = nil
		note := "going by the transfer's answer alone: " + err.Error()
		doc.Events = append(doc.Events, rescue.Event{Kind: rescue.Failed, Text: note})
		if !c.json {
			s.Show(present.RecoveryEvent(doc.Events[0]))
		}
	} else if w.Prober != nil {
		defer w.Prober.Close()
	}
	var bar *progressbar.ProgressBar
	if c.env.StderrTerminal && !c.quiet {
		w.Progress = func(done, total int64) {
			if bar == nil {
				bar = progressbar.NewOptions64(int64(len(w.Image)), progressbar.OptionSetWriter(c.env.Stderr), progressbar.OptionSetDescription("sending"), progressbar.OptionShowBytes(true), progressbar.OptionSetWidth(24), progressbar.OptionClearOnFinish(), progressbar.OptionThrottle(redraw))
			}
			_ = bar.Set64(done)
		}
	}
	w.Tell = func(e rescue.Event) {
		if bar != nil {
			_ = bar.Clear()
			bar = nil
		}
		doc.Events = append(doc.Events, e)
		if !c.json {
			s.Show(present.RecoveryEvent(e))
		}
	}
	ending, err := w.Run(ctx)
	if ctx.Err() != nil {
		return 0, ctx.Err()
	}
	status := ended(&doc, ending, err, w.Settle)
	if c.json {
		return status, present.WriteJSON(c.env.Stdout, present.RecoverJSON(doc))
	}
	s.Show(present.RecoveryEnds(doc))
	return status, nil
}

// guard sets up what sends the image, or offers it, and sees what the device does.
func (r *recovering) guard(ctx context.Context, c *call, doc present.Recovered) (*rescue.Watch, error) {
	rule, chosen := doc.Rule, doc.Chosen
	most := int64(1 << 30)
	if rule.Accepts.Largest.Set() {
		most = rule.Accepts.Largest.Bytes
	}
	image, err := plan.ReadItem(ctx, chosen.Survey.Path, chosen.Item.Address, most, c.limits)
	if err != nil {
		return nil, err
	}
	address := r.address
	if address == "" {
		address = rule.Network.Device.Text
	}
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return nil, usagef("the rulebook gives no address of the boot loader; give one with -address")
	}
	port := r.port
	if port == 0 {
		port = doc.Port()
	}
	settle := r.settle
	if settle == 0 {
		if settle = rule.Afterwards.Wait.Time; settle == 0 {
			settle = 5 * time.Minute
		}
	}
	w := &rescue.Watch{Waits: rule.Signs.PingTTL, Old: rule.NotYet.PingTTL, New: rule.Afterwards.Signs.PingTTL, Image: image, SHA256: chosen.Item.Digests.Of("sha256"), Name: doc.Name(),
		Device: &net.UDPAddr{IP: ip.AsSlice(), Port: port}, Serve: rule.Transfer.Direction.Text == "serve", For: r.within, Settle: settle,
		Transfer: tftp.Options{Timeout: 500 * time.Millisecond, Retries: 8}}
	if b := rule.Transfer.Blocksize; b != nil && *b {
		w.Transfer.BlockSize = 1428
	}
	if w.Serve {
		if w.Listen, err = net.ListenUDP("udp", &net.UDPAddr{Port: port}); err != nil {
			return nil, fmt.Errorf("port %d cannot be opened for the boot loader to fetch from: %w; give the rights, or another port with -port", port, err)
		}
	}
	return w, nil
}

// ended tells how it ended.
func ended(doc *present.Recovered, ending rescue.Ending, err error, settle time.Duration) (status int) {
	status = exitFits
	switch {
	case err != nil:
		doc.Outcome, doc.Ended, status = fit.Misfit, err.Error(), exitMisfit
	case ending == rescue.IsBack:
		doc.Outcome, doc.Ended = fit.Fits, "the device is back: the new system answers"
	case ending == rescue.ThrownAway:
		doc.Outcome, doc.Ended, status = fit.Misfit, "the device did not keep the image", exitMisfit
	case ending == rescue.Answers:
		doc.Outcome, doc.Ended, status = fit.Unsettled, "something answers, and nothing tells from here what it runs; capture its console and run fitcheck confirm", exitUnsettled
	default:
		doc.Outcome, doc.Ended, status = fit.Unsettled, fmt.Sprintf("the image is over, and within %s nobody saw the system answer", duration.Text(settle)), exitUnsettled
	}
	return status
}

// prober is how what answers is asked; nil where nobody is to be asked.
func (r *recovering) prober(ip net.IP) (rescue.Prober, error) {
	switch kind, port, _ := strings.Cut(r.probe, ":"); kind {
	case "none":
		return nil, nil
	case "icmp":
		return rescue.NewPing(ip)
	case "udp":
		n, err := strconv.Atoi(port)
		if err != nil || n < 1 || n > 65535 {
			return nil, fmt.Errorf("-probe udp:PORT takes a number from 1 to 65535")
		}
		return rescue.NewEcho(&net.UDPAddr{IP: ip, Port: n})
	}
	return nil, fmt.Errorf("-probe takes icmp, udp:PORT or none, not %q", r.probe)
}

// ownAddresses are those of this computer; none where the system does not tell.
func ownAddresses() []netip.Prefix {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	var out []netip.Prefix
	for _, a := range all {
		if p, err := netip.ParsePrefix(a.String()); err == nil {
			out = append(out, p)
		}
	}
	return out
}
