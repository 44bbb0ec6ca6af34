package present

import (
	"cmp"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"fitcheck/core/duration"
	"fitcheck/core/serving"
	"fitcheck/core/shell"
	"fitcheck/core/transport"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// What serve tells: when it is ready, a line for each request, and in the end who has what.

// Serving is a session that is ready.
type Serving struct {
	*serving.Session
	Own     []netip.Prefix // addresses of this computer
	KeyFile string         // where the key of SFTP was written
}

// ServeReady says what is offered, where, and to whom it is near.
func ServeReady(s Serving) *page.Page {
	names := s.Folder.Names()
	total := int64(0)
	lost, why := s.Folder.Withdrawn()
	for _, n := range names {
		total += s.Folder.Size(n)
	}
	t := page.Title{Word: "READY", Tone: page.Good, Text: fmt.Sprintf("%s: %s of %s, %s, each with the SHA-256 that was staged", s.Folder.Dir, wording.Count(len(names)-len(lost), "file"), s.Folder.By, Bytes(total))}
	if len(lost) > 0 {
		t.Tone = page.Doubt
	}
	p := &page.Page{Name: "Serving " + s.Folder.Dir, Document: true}
	p.Add(t)
	var out page.List
	for i, n := range lost {
		out.Items = append(out.Items, page.Item{Marks: []page.Span{{Text: "WITHDRAWN", Tone: page.Bad}}, Text: n + ": " + why[i], Tone: page.Bad})
	}
	for _, o := range s.Offers {
		for _, r := range s.Reaches(o, s.Own) {
			it := page.Item{Marks: []page.Span{{Text: o.Name, Tone: page.Strong}}, Text: locator(o, r.Host)}
			if len(r.Inside) > 0 {
				it.Text += "  in one network with " + strings.Join(few(r.Inside), ", ")
			}
			if len(r.Outside) > 0 && len(r.Inside) == 0 {
				it.Text += "  not in one network with " + strings.Join(few(r.Outside), ", ") + ": a router must know the way"
			}
			out.Items = append(out.Items, it)
		}
		if told := o.Told(); len(told) > 0 {
			text := fmt.Sprintf("user %s, password %s; host key %s", told[transport.ToldUser], told[transport.ToldPassword], told[transport.ToldHostKey])
			if s.KeyFile != "" {
				text += "; or the key in " + s.KeyFile
			}
			out.Items = append(out.Items, page.Item{Marks: []page.Span{{Text: "", Tone: page.Strong}}, Text: text})
		}
	}
	p.Add(out)
	var unknown []string
	for _, d := range s.Folder.Devices {
		if d.Address == "" {
			unknown = append(unknown, d.Fetcher)
		}
	}
	if len(unknown) > 0 {
		p.Add(page.Line{Tone: page.Faint, Text: "whether " + strings.Join(few(unknown), ", ") + " can reach that is not known: there is no address in the device file"})
	}
	return p
}

// few shortens a list of names.
func few(names []string) []string {
	const most = 4
	if len(names) <= most {
		return names
	}
	return append(names[:most:most], fmt.Sprintf("%d more", len(names)-most))
}

// locator is how a file is asked for at an address, as far as it does not depend on the file.
func locator(o serving.Listening, host string) string {
	port := 0
	if at, err := netip.ParseAddrPort(o.Address().String()); err == nil {
		port = int(at.Port())
	}
	at := net.JoinHostPort(host, fmt.Sprint(port))
	if o.URL {
		return o.Name + "://" + at + "/"
	}
	return at
}

// rate is bytes a second in words.
func rate(bytes int64, took time.Duration) string {
	if took < time.Millisecond {
		took = time.Millisecond
	}
	return Bytes(int64(float64(bytes)/took.Seconds())) + "/s"
}

// ServeNews tells one thing that happened; nil for what makes no line.
func ServeNews(n serving.News) *page.Page {
	at := n.Time.Format("15:04:05")
	switch {
	case n.Withdrawn != "":
		return line(at, "WITHDRAWN", page.Bad, n.Withdrawn+": "+n.Why)
	case n.Quiet:
		return line(at, "QUIET", page.Doubt, n.Why)
	case n.Transfer == nil:
		return nil
	}
	e := n.Transfer
	who := e.Peer + " by " + e.Protocol + ": "
	switch e.Kind {
	case transport.Whole:
		what := e.Name + " whole, " + Bytes(e.Size)
		if e.Part() {
			what = fmt.Sprintf("%s, bytes %d to %d of %d", e.Name, e.From, e.From+e.Length-1, e.Size)
		}
		tone, word := page.Good, "WHOLE"
		if e.Part() {
			tone, word = page.Info, "PART"
		}
		return line(at, word, tone, fmt.Sprintf("%s%s in %s, %s", who, what, shortly(e.Took), rate(e.Length, e.Took)))
	case transport.Broken:
		return line(at, "BROKEN OFF", page.Bad, fmt.Sprintf("%s%s at %s of %s (%d %%): %s", who, e.Name, Bytes(e.From+e.Done), Bytes(e.Size), percent(e), e.Why))
	case transport.Refused:
		return line(at, "REFUSED", page.Doubt, who+e.Why)
	}
	return nil
}

func shortly(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", max(1, d.Milliseconds()))
	}
	return duration.Text(d.Round(time.Second))
}

func percent(e *transport.Event) int64 {
	if e.Size == 0 {
		return 100
	}
	return (e.From + e.Done) * 100 / e.Size
}

func line(at, word string, tone page.Tone, text string) *page.Page {
	return &page.Page{Document: true, Blocks: []page.Block{page.List{Items: []page.Item{{Marks: []page.Span{{Text: at, Tone: page.Faint}, {Text: fmt.Sprintf("%-10s", word), Tone: tone}}, Text: text}}}}}
}

// ServeLive is the table of what is under way, as it is drawn again and again.
func ServeLive(l *serving.Ledger) *page.Page {
	t := page.Table{Columns: []page.Column{{Title: "who"}, {Title: "by"}, {Title: "file", Fitting: page.CutFront}, {Title: "so far", Right: true}, {Title: "of", Right: true}, {Title: "%", Right: true}, {Title: "rate", Right: true}}, Most: 12, Noun: "transfer"}
	for _, f := range l.Fetches() {
		if f.State != transport.Going && f.State != transport.Asked {
			continue
		}
		done := int64(100)
		if f.Size > 0 {
			done = f.Done * 100 / f.Size
		}
		t.Rows = append(t.Rows, []page.Span{{Text: f.Peer}, {Text: f.Protocol}, {Text: f.Name}, {Text: Bytes(f.Done)}, {Text: Bytes(f.Size)}, {Text: fmt.Sprint(done)}, {Text: rate(f.Done, f.Took)}})
	}
	if len(t.Rows) == 0 {
		return nil
	}
	return &page.Page{Document: true, Blocks: []page.Block{t}}
}

// ServeEnds says who has what, and what nobody asked for.
func ServeEnds(s *serving.Session) *page.Page {
	missing := s.Ledger.Missing()
	p := &page.Page{Name: "Served " + s.Folder.Dir, Document: true}
	t := page.Title{Word: "ALL FETCHED", Tone: page.Good, Text: "every file came over whole, as often as there are fetchers for it"}
	if len(missing) > 0 {
		t = page.Title{Word: "ENDED", Tone: page.Doubt, Text: wording.Count(len(missing), "file") + " did not come over as often as was staged for"}
	}
	p.Add(t)
	table := page.Table{Columns: []page.Column{{Title: "file", Fitting: page.CutFront}, {Title: "size", Right: true}, {Title: "who"}, {Title: "by"}, {Title: "came over"}, {Title: "rate", Right: true}}, Most: 24, Flag: page.Why, Noun: "fetch"}
	for _, f := range s.Ledger.Fetches() {
		span := page.Span{Text: "whole", Tone: page.Good}
		if f.State != transport.Whole {
			span = page.Span{Text: Bytes(f.Done), Tone: page.Bad}
		}
		table.Rows = append(table.Rows, []page.Span{{Text: f.Name, Tone: page.Strong}, {Text: Bytes(f.Size)}, {Text: f.Peer}, {Text: f.Protocol}, span, {Text: rate(f.Done, f.Took)}})
	}
	if len(table.Rows) > 0 {
		p.Add(table)
	}
	if len(missing) > 0 {
		l := page.List{Most: 8, Flag: page.Why}
		for _, m := range missing {
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: "?", Tone: page.Doubt}}, Text: m})
		}
		p.Add(l)
	}
	return p
}

func init() {
	form(func() any { return jsonServed{Fitcheck: about{"serve", Edition}} })
}

type jsonServed struct {
	Fitcheck about       `json:"fitcheck"`
	Time     string      `json:"time"`
	Event    string      `json:"event"`
	Folder   string      `json:"folder,omitempty"`
	By       string      `json:"by,omitempty"`
	Files    []jsonOffer `json:"files,omitempty"`
	// Addresses are where it is offered.
	Addresses []jsonAddress `json:"addresses,omitempty"`
	Protocol  string        `json:"protocol,omitempty"`
	Peer      string        `json:"peer,omitempty"`
	Asked     string        `json:"asked,omitempty"`
	File      string        `json:"file,omitempty"`
	Size      *int64        `json:"size,omitempty"`
	From      int64         `json:"from,omitempty"`
	Bytes     *int64        `json:"bytes,omitempty"`
	Percent   *int64        `json:"percent,omitempty"`
	Whole     *bool         `json:"whole,omitempty"`
	Seconds   float64       `json:"seconds,omitempty"`
	Rate      int64         `json:"bytes_per_second,omitempty"`
	Because   string        `json:"because,omitempty"`
	Missing   []string      `json:"missing,omitempty"`
}

type jsonOffer struct {
	Path   string   `json:"path"`
	Size   int64    `json:"size"`
	SHA256 string   `json:"sha256"`
	Whole  []string `json:"whole_by,omitempty"`
	Not    string   `json:"withdrawn,omitempty"`
}

type jsonAddress struct {
	Protocol string   `json:"protocol"`
	Address  string   `json:"address"`
	Reach    []string `json:"in_network_of,omitempty"`
	Outside  []string `json:"not_in_network_of,omitempty"`
	User     string   `json:"user,omitempty"`
	Password string   `json:"password,omitempty"`
	HostKey  string   `json:"host_key,omitempty"`
	KeyFile  string   `json:"key_file,omitempty"`
}

func served(at time.Time, event string) jsonServed {
	return jsonServed{Fitcheck: about{"serve", Edition}, Time: at.Format(time.RFC3339), Event: event}
}

// ServeReadyJSON is the first line of what serve tells.
func ServeReadyJSON(s Serving, at time.Time) any {
	j := served(at, "ready")
	j.Folder, j.By = s.Folder.Dir, s.Folder.By
	j.Files = offers(s.Session)
	for _, o := range s.Offers {
		told := o.Told()
		for _, r := range s.Reaches(o, s.Own) {
			a := jsonAddress{Protocol: o.Name, Address: strings.TrimSuffix(strings.TrimPrefix(locator(o, r.Host), o.Name+"://"), "/"), Reach: r.Inside, Outside: r.Outside, User: told[transport.ToldUser], Password: told[transport.ToldPassword], HostKey: told[transport.ToldHostKey]}
			if len(told) > 0 {
				a.KeyFile = s.KeyFile
			}
			j.Addresses = append(j.Addresses, a)
		}
	}
	return j
}

func offers(s *serving.Session) []jsonOffer {
	var out []jsonOffer
	whole := map[string][]string{}
	for _, f := range s.Ledger.Fetches() {
		if f.State == transport.Whole {
			whole[f.Name] = append(whole[f.Name], f.Peer)
		}
	}
	lost := map[string]string{}
	names, why := s.Folder.Withdrawn()
	for i, n := range names {
		lost[n] = why[i]
	}
	for _, n := range s.Folder.Names() {
		out = append(out, jsonOffer{n, s.Folder.Size(n), s.Folder.SHA256(n), whole[n], lost[n]})
	}
	return out
}

// ServeNewsJSON is one line of what serve tells; nil for what makes none.
func ServeNewsJSON(n serving.News) any {
	switch {
	case n.Withdrawn != "":
		j := served(n.Time, "withdrawn")
		j.File, j.Because = n.Withdrawn, n.Why
		return j
	case n.Quiet:
		j := served(n.Time, "quiet")
		j.Because = n.Why
		return j
	case n.Transfer == nil || n.Transfer.Kind == transport.Going:
		return nil
	}
	e := n.Transfer
	j := served(n.Time, strings.ReplaceAll(string(e.Kind), " ", "_"))
	j.Protocol, j.Peer, j.Asked, j.File, j.Because = e.Protocol, e.Peer, e.Asked, e.Name, e.Why
	if e.Name == "" {
		return j
	}
	j.Size, j.From = &e.Size, e.From
	if e.Kind == transport.Asked {
		return j
	}
	done, whole := percent(e), e.Kind == transport.Whole && !e.Part()
	j.Bytes, j.Percent, j.Whole = &e.Done, &done, &whole
	j.Seconds = float64(e.Took.Milliseconds()) / 1000
	j.Rate = int64(float64(e.Done) / max(e.Took.Seconds(), 0.001))
	return j
}

// ServeEndsJSON is the last line of what serve tells.
func ServeEndsJSON(s *serving.Session, at time.Time) any {
	j := served(at, "ended")
	j.Files, j.Missing = offers(s), s.Ledger.Missing()
	return j
}

// NoRights explains what to do where a low port is not given to this user.
func NoRights(protocol, address, program string) string {
	_, port, _ := net.SplitHostPort(address)
	return fmt.Sprintf("%s: port %s is below 1024, which this system gives only to programs with rights. Either give this program the right once (sudo setcap cap_net_bind_service=+ep %s), or run it with sudo, or take another port where the device can be told one (-%s :%s)",
		protocol, cmp.Or(port, "?"), shell.Quote(program), protocol, highPort(port))
}

// highPort is a port that needs no rights, made of one that does: 69 gives 6969.
func highPort(port string) string {
	if len(port) <= 2 {
		return port + port
	}
	return "1" + fmt.Sprintf("%04s", port)
}
