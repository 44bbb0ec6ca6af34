package transport

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/subtle"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// SFTP is the SSH File Transfer Protocol, version 3, over SSH (RFC 4251 to 4254): read-only,
// with one user, whose password and key are made when the server is.
var SFTP = register(&Protocol{Name: "sftp", Port: 22, Network: "tcp", Logins: true, Listen: listenSFTP, Fetch: fetchSFTP})

// What a client of SFTP is told beside the address.
const (
	ToldUser     = "user"
	ToldPassword = "password"
	ToldKey      = "key"      // the private key, in PEM
	ToldHostKey  = "host_key" // fingerprint of the server's
	sftpUser     = "fitcheck"
)

type sftpOffer struct {
	l      net.Listener
	config *ssh.ServerConfig
	told   map[string]string
}

func listenSFTP(address string) (Offer, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, listenError(err)
	}
	o, err := newSFTP(l)
	if err != nil {
		l.Close()
	}
	return o, err
}

func newSFTP(l net.Listener) (*sftpOffer, error) {
	_, hostKey, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.NewSignerFromKey(hostKey)
	if err != nil {
		return nil, err
	}
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "fitcheck, for one run")
	if err != nil {
		return nil, err
	}
	allowed, err := ssh.NewPublicKey(public)
	if err != nil {
		return nil, err
	}
	password := newPassword()
	o := &sftpOffer{l: l, told: map[string]string{ToldUser: sftpUser, ToldPassword: password, ToldKey: string(pem.EncodeToMemory(block)), ToldHostKey: ssh.FingerprintSHA256(signer.PublicKey())}}
	same := func(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }
	denied := errors.New("not the user of this run")
	o.config = &ssh.ServerConfig{MaxAuthTries: 6, ServerVersion: "SSH-2.0-fitcheck",
		PasswordCallback: func(c ssh.ConnMetadata, given []byte) (*ssh.Permissions, error) {
			if same(c.User(), sftpUser) && same(string(given), password) {
				return nil, nil
			}
			return nil, denied
		},
		PublicKeyCallback: func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if same(c.User(), sftpUser) && same(string(key.Marshal()), string(allowed.Marshal())) {
				return nil, nil
			}
			return nil, denied
		}}
	o.config.AddHostKey(signer)
	return o, nil
}

// newPassword is twelve letters and digits that are not taken for one another when they are
// typed at a console: 59 bits.
func newPassword() string {
	const alphabet = "abcdefghjkmnpqrstuvwxyz23456789"
	b := make([]byte, 12)
	_, _ = rand.Read(b)
	for i := range b {
		b[i] = alphabet[int(b[i])%len(alphabet)]
	}
	return string(b)
}

func (o *sftpOffer) Address() net.Addr       { return o.l.Addr() }
func (o *sftpOffer) Told() map[string]string { return o.told }
func (o *sftpOffer) Close() error            { return o.l.Close() }

// mostSessions bounds the connections of SFTP at one time.
const mostSessions = 128

// Serve implements Offer.
func (o *sftpOffer) Serve(ctx context.Context, shelf Shelf, tell func(Event)) error {
	var wg sync.WaitGroup
	defer wg.Wait()
	stop := context.AfterFunc(ctx, func() { o.l.Close() })
	defer stop()
	var ids atomic.Uint64
	slots := make(chan struct{}, mostSessions)
	for {
		c, err := o.l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return err
			}
			time.Sleep(5 * time.Millisecond) // no file descriptor is left, for instance
			continue
		}
		select {
		case slots <- struct{}{}:
		default:
			c.Close()
			continue
		}
		wg.Go(func() {
			defer func() { <-slots }()
			o.session(ctx, c, &sftpHandler{shelf: shelf, tell: tell, ids: &ids, peer: peerOf(c.RemoteAddr().String())})
		})
	}
}

// session serves one connection.
func (o *sftpOffer) session(ctx context.Context, c net.Conn, h *sftpHandler) {
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	_ = c.SetDeadline(time.Now().Add(headWait * 3)) // until it has logged in
	conn, channels, requests, err := ssh.NewServerConn(c, o.config)
	if err != nil {
		var auth *ssh.ServerAuthError
		if errors.As(err, &auth) && len(auth.Errors) > 0 {
			refuse(h.tell, Event{ID: h.ids.Add(1), Protocol: "sftp", Peer: h.peer}, errors.New("it did not log in as the user of this run"))
		}
		return
	}
	_ = c.SetDeadline(time.Time{})
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	for n := range channels {
		if n.ChannelType() != "session" {
			_ = n.Reject(ssh.UnknownChannelType, "only sftp is served")
			continue
		}
		channel, asked, err := n.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range asked {
				// A subsystem's name is a string: four bytes of length, and its bytes.
				ok := r.Type == "subsystem" && len(r.Payload) >= 4 && string(r.Payload[4:]) == "sftp"
				_ = r.Reply(ok, nil)
				if !ok {
					continue
				}
				s := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h})
				_ = s.Serve()
				_ = s.Close()
				_, _ = channel.SendRequest("exit-status", false, make([]byte, 4))
				_ = channel.Close()
			}
		}()
	}
}

// sftpHandler answers the requests of one connection.
type sftpHandler struct {
	shelf Shelf
	tell  func(Event)
	ids   *atomic.Uint64
	peer  string
}

// Fileread implements sftp.FileReader.
func (h *sftpHandler) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	e := Event{ID: h.ids.Add(1), Protocol: "sftp", Peer: h.peer, Asked: r.Filepath}
	f, name, err := h.shelf.Open(r.Filepath)
	if err != nil {
		refuse(h.tell, e, err)
		return nil, sftpRefusal(err)
	}
	e.Name, e.Size, e.Length = name, f.Size(), f.Size()
	return &sftpFile{File: f, t: begin(h.tell, e), came: map[int64]int64{}}, nil
}

// Filewrite implements sftp.FileWriter: nothing is taken.
func (h *sftpHandler) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	return nil, h.deny(r, "it asks to write, and nothing is taken")
}

// Filecmd implements sftp.FileCmder: nothing is changed.
func (h *sftpHandler) Filecmd(r *sftp.Request) error {
	return h.deny(r, "it asks to change something (%s), and nothing is changed", strings.ToLower(r.Method))
}

func (h *sftpHandler) deny(r *sftp.Request, format string, args ...any) error {
	refuse(h.tell, Event{ID: h.ids.Add(1), Protocol: "sftp", Peer: h.peer, Asked: r.Filepath}, fmt.Errorf(format, args...))
	return sftp.ErrSSHFxPermissionDenied
}

// Filelist implements sftp.FileLister: files tell their size; folders list nothing.
func (h *sftpHandler) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	switch r.Method {
	case "Stat", "Lstat":
		if path.Clean(r.Filepath) == "/" {
			return one{"/", 0, true}, nil
		}
		f, name, err := h.shelf.Open(r.Filepath)
		if err != nil {
			return nil, sftpRefusal(err)
		}
		defer f.Close()
		return one{path.Base(name), f.Size(), false}, nil
	}
	return nil, h.deny(r, "it asks for a list, and folders are not listed")
}

func sftpRefusal(err error) error {
	var r *Refusal
	if errors.As(err, &r) && r.Reason == NotThere {
		return sftp.ErrSSHFxNoSuchFile
	}
	return sftp.ErrSSHFxPermissionDenied
}

// sftpFile is a file under way. A client asks for many stretches at once, in any order.
type sftpFile struct {
	File
	mu   sync.Mutex
	t    *transfer
	came map[int64]int64 // stretches that were given: from their beginning, how long
	err  error
}

// ReadAt implements io.ReaderAt.
func (f *sftpFile) ReadAt(b []byte, at int64) (int, error) {
	n, err := f.File.ReadAt(b, at)
	if at+int64(n) >= f.Size() && n > 0 {
		if why := f.Sound(); why != nil {
			f.mu.Lock()
			defer f.mu.Unlock()
			f.err = why
			return 0, why
		}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if int64(n) > f.came[at] {
		f.t.reached(min(f.t.Done+int64(n)-f.came[at], f.Size()))
		f.came[at] = int64(n)
	}
	return n, err
}

// Close implements io.Closer: the client closes what it has read.
func (f *sftpFile) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.t.end(f.err)
	return f.File.Close()
}

// one is the list of one file, or of the root.
type one struct {
	name   string
	size   int64
	folder bool
}

func (o one) ListAt(to []os.FileInfo, at int64) (int, error) {
	if at > 0 || len(to) == 0 {
		return 0, io.EOF
	}
	to[0] = o
	return 1, io.EOF
}

func (o one) Name() string       { return o.name }
func (o one) Size() int64        { return o.size }
func (o one) ModTime() time.Time { return time.Time{} }
func (o one) IsDir() bool        { return o.folder }
func (o one) Sys() any           { return nil }
func (o one) Mode() fs.FileMode {
	if o.folder {
		return fs.ModeDir | 0o555
	}
	return 0o444
}

func fetchSFTP(ctx context.Context, address, name string, told map[string]string, w io.Writer, progress Progress) error {
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	config := &ssh.ClientConfig{User: told[ToldUser], Auth: []ssh.AuthMethod{ssh.Password(told[ToldPassword])}, Timeout: headWait,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if want := told[ToldHostKey]; want != ssh.FingerprintSHA256(key) {
				return errors.New("another host key than the server's")
			}
			return nil
		}}
	conn, channels, requests, err := ssh.NewClientConn(c, address, config)
	if err != nil {
		return err
	}
	client, err := sftp.NewClient(ssh.NewClient(conn, channels, requests))
	if err != nil {
		return err
	}
	defer client.Close()
	f, err := client.Open("/" + strings.TrimPrefix(name, "/"))
	if err != nil {
		return err
	}
	defer f.Close()
	size := int64(-1)
	if info, err := f.Stat(); err == nil {
		size = info.Size()
	}
	done := int64(0)
	_, err = f.WriteTo(writerFunc(func(b []byte) (int, error) {
		n, err := w.Write(b)
		done += int64(n)
		if progress != nil {
			progress(done, size)
		}
		return n, err
	}))
	return err
}

type writerFunc func([]byte) (int, error)

func (f writerFunc) Write(b []byte) (int, error) { return f(b) }
