package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	"fitcheck/core/serving"
	"fitcheck/core/transport"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var serveCommand = register(&command{
	name: "serve", order: 100, args: "DIR", tells: true,
	part: partNight, example: "serve -tftp 127.0.0.1:6969 -http 127.0.0.1:8080 staged",
	short: "give out what was staged, and see who fetched what, and whether whole",
	long: `DIR is a folder that fitcheck stage wrote, or one with a SHA256SUMS. Only files of that list
are given out, each checked again before it is offered; one that changes is withdrawn at
once. Nothing is taken, no folder is listed, nothing outside DIR is read. Without -tftp,
-http or -sftp it listens for TFTP and HTTP at their usual ports. It fetches a file from
itself before it says READY, names the addresses at which it is reached, and tells for
every request who asked for what, how far it came, how fast, and whether it was whole. When
nobody asks within the time that the rulebook gives for a transfer, it says what may stand
in the way. It runs until it is interrupted, or with -once until every file came over whole
as often as it was staged for.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		s := &serveCall{}
		s.flags(f)
		f.BoolVar(&s.once, "once", false, "end when every file was fetched whole by as many as it was staged for")
		f.StringVar(&s.record, "record", "", "append every event as a line of JSON to this `file`")
		f.DurationVar(&s.wait, "quiet-after", 0, "say what may stand in the way when nobody asked for so `long`; else as the rulebook says")
		return func(ctx context.Context, c *call, args []string) (int, error) {
			if len(args) != 1 {
				return 0, usagef("serve takes one folder: the one that stage wrote")
			}
			return s.run(ctx, c, args[0])
		}
	},
})

// serveCall is one call of serve.
type serveCall struct {
	addresses    map[string]*string
	keyFile      string
	once         bool
	record       string
	wait         time.Duration
	offers       []serving.Listening
	mu           sync.Mutex // of what is written
	live         *page.Live
	out          *os.File
	recordFailed error
}

// flags declares where is listened.
func (s *serveCall) flags(f *flag.FlagSet) {
	s.addresses = map[string]*string{}
	for _, p := range transport.Protocols() {
		s.addresses[p.Name] = f.String(p.Name, "", fmt.Sprintf("offer by %s at this `ADDRESS:PORT`; the usual port is %d", strings.ToUpper(p.Name), p.Port))
	}
	f.StringVar(&s.keyFile, "sftp-key", "", "write the key of SFTP's user to this `file`, and remove it in the end")
}

// listen opens what is asked for; without a word TFTP and HTTP.
func (s *serveCall) listen() error {
	asked := map[string]string{}
	for name, address := range s.addresses {
		if *address != "" {
			asked[name] = *address
		}
	}
	if len(asked) == 0 {
		for _, p := range transport.Protocols() {
			if p.Always {
				asked[p.Name] = ""
			}
		}
	}
	if s.keyFile != "" && asked[transport.SFTP.Name] == "" {
		return usagef("-sftp-key goes with -sftp")
	}
	for _, p := range transport.Protocols() {
		given, ok := asked[p.Name]
		if !ok {
			continue
		}
		address, err := p.WithPort(given)
		if err != nil {
			return usagef("-%s: %v", p.Name, err)
		}
		o, err := p.Listen(address)
		switch {
		case errors.Is(err, transport.ErrNoRights):
			program, _ := os.Executable()
			return errors.New(present.NoRights(p.Name, address, program))
		case errors.Is(err, transport.ErrTaken):
			return fmt.Errorf("%s: another program listens at %s already; end it, or give another address with -%s", p.Name, address, p.Name)
		case err != nil:
			return fmt.Errorf("%s: %s cannot be listened on: %w; the addresses of this computer are %s", p.Name, address, err, ownAddressList())
		}
		s.offers = append(s.offers, serving.Listening{Protocol: p, Offer: o})
	}
	return nil
}

func ownAddressList() string {
	var out []string
	for _, p := range ownAddresses() {
		out = append(out, p.Addr().String())
	}
	return strings.Join(out, ", ")
}

func (s *serveCall) close() {
	for _, o := range s.offers {
		o.Close()
	}
	if s.out != nil {
		s.out.Close()
	}
}

// writeKey writes the key for the user of SFTP, for nobody else to read.
func (s *serveCall) writeKey() (remove func(), err error) {
	remove = func() {}
	if s.keyFile == "" {
		return remove, nil
	}
	for _, o := range s.offers {
		key := o.Told()[transport.ToldKey]
		if key == "" {
			continue
		}
		w, err := os.OpenFile(s.keyFile, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return remove, fmt.Errorf("-sftp-key: %w; name a file that is not there", err)
		}
		_, err = w.WriteString(key)
		return func() { os.Remove(s.keyFile) }, errors.Join(err, w.Close())
	}
	return remove, nil
}

func (s *serveCall) run(ctx context.Context, c *call, dir string) (int, error) {
	folder, err := serving.Open(ctx, dir)
	if err != nil {
		return 0, err
	}
	defer folder.Close()
	session, done, err := s.begin(c, folder)
	if err != nil {
		return 0, err
	}
	defer done()
	ready := func() error {
		s.tell(c, present.ServeReadyJSON(s.shown(session), time.Now()), present.ServeReady(s.shown(session)))
		return s.recordFailed
	}
	err = session.Run(ctx, s.once, ready)
	if s.live != nil {
		s.live.Draw(nil)
	}
	if err != nil && ctx.Err() == nil {
		if folder.Smallest() == "" {
			fmt.Fprintln(c.env.Stderr, "fitcheck: "+page.Safe(err.Error()))
			return exitMisfit, nil
		}
		return 0, err
	}
	s.tell(c, present.ServeEndsJSON(session, time.Now()), present.ServeEnds(session))
	if names, _ := folder.Withdrawn(); len(names) > 0 {
		return exitMisfit, nil
	}
	return exitFits, s.recordFailed
}

func (s *serveCall) shown(session *serving.Session) present.Serving {
	return present.Serving{Session: session, Own: ownAddresses(), KeyFile: s.keyFile}
}

// begin listens, and makes a session that tells what happens.
func (s *serveCall) begin(c *call, folder *serving.Folder) (session *serving.Session, done func(), err error) {
	if s.record != "" {
		if s.out, err = os.OpenFile(s.record, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644); err != nil {
			return nil, nil, fmt.Errorf("-record: %w", err)
		}
	}
	if err := s.listen(); err != nil {
		s.close()
		return nil, nil, err
	}
	remove, err := s.writeKey()
	if err != nil {
		s.close()
		return nil, nil, err
	}
	if c.env.StderrTerminal && !c.quiet && !c.json {
		s.live = &page.Live{Out: c.env.Stderr, Width: c.env.Width, Color: c.env.Color}
	}
	session = serving.NewSession(folder, s.offers, nil)
	if s.wait > 0 {
		session.Wait = s.wait
	}
	drawn := time.Time{}
	session.Tell = func(n serving.News) {
		if doc := present.ServeNewsJSON(n); doc != nil {
			s.tell(c, doc, present.ServeNews(n))
		}
		if s.live != nil && (time.Since(drawn) > redraw || n.Transfer == nil || n.Transfer.Kind != transport.Going) {
			drawn = time.Now()
			s.live.Draw(present.ServeLive(session.Ledger))
		}
	}
	return session, func() { s.close(); remove() }, nil
}

// tell writes one event: as a line, as JSON where that is asked for, and to the record.
func (s *serveCall) tell(c *call, doc any, p *page.Page) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.live != nil {
		s.live.Draw(nil)
	}
	switch {
	case c.json:
		_ = present.WriteLine(c.env.Stdout, doc)
	case p != nil:
		c.screen().Show(p)
		if f, ok := c.env.Stdout.(interface{ Flush() error }); ok {
			_ = f.Flush()
		}
	}
	if s.out == nil {
		return
	}
	if b, err := json.Marshal(withoutSecrets(doc)); err == nil {
		if _, err := s.out.Write(append(b, '\n')); err != nil && s.recordFailed == nil {
			s.recordFailed = fmt.Errorf("-record: %w", err)
		}
	}
}

// withoutSecrets leaves the password out of what is kept.
func withoutSecrets(doc any) any {
	b, err := json.Marshal(doc)
	var m map[string]any
	if err != nil || json.Unmarshal(b, &m) != nil {
		return doc
	}
	if list, ok := m["addresses"].([]any); ok {
		for _, a := range list {
			if a, ok := a.(map[string]any); ok {
				delete(a, "password")
			}
		}
	}
	return m
}
