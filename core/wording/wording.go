// Package wording puts the errors of the operating system, the language and its decoders into
// the words of somebody who only uses them.
package wording

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"regexp"
	"strings"
	"syscall"
)

// system are errors that the system gives, by what they are on every system.
var system = []struct {
	is   error
	says string
}{
	{fs.ErrNotExist, "there is no such file or folder"},
	{fs.ErrPermission, "it is not permitted"},
	{fs.ErrExist, "it is there already"},
	{syscall.ENOSPC, "there is no space left on the disk"},
	{syscall.EDQUOT, "there is no space left for this user"},
	{syscall.EROFS, "the disk is read-only"},
	{syscall.ENOTDIR, "a part of the path is a file and not a folder"},
	{syscall.EISDIR, "it is a folder and not a file"},
	{syscall.ENOTEMPTY, "the folder is not empty"},
	{syscall.ENAMETOOLONG, "the name is too long for the disk"},
	{syscall.ELOOP, "its links lead in a circle"},
	{syscall.EMFILE, "too many files are open at once"},
	{syscall.EINVAL, "the system does not take it"},
	{syscall.EIO, "the disk or what it hangs on fails"},
	{syscall.EXDEV, "it lies on another disk"},
	{syscall.ETXTBSY, "it is in use"},
	{syscall.EBUSY, "it is in use"},
	{syscall.EFBIG, "it is larger than the disk takes"},
	{syscall.EADDRINUSE, "another program uses it"},
	{syscall.EADDRNOTAVAIL, "this machine has no such address"},
	{syscall.ECONNREFUSED, "nobody answers at that address and port"},
	{syscall.ENETUNREACH, "no network leads there"},
	{syscall.EHOSTUNREACH, "the host cannot be reached"},
	{syscall.EPIPE, "nobody reads it any more"},
	{os.ErrDeadlineExceeded, "nothing came in time"},
	{io.ErrUnexpectedEOF, "it ends in the middle"},
	{io.EOF, "it ends too early"},
}

// said is one error of a tree: its text, and what is said instead.
type said struct{ text, instead string }

// Text is the message of an error in which every part that the system, the language or a
// decoder worded is replaced. Temporary names that this program gave are taken out.
func Text(err error) string {
	if err == nil {
		return ""
	}
	text := err.Error()
	var all []said
	collect(err, &all)
	for _, s := range all { // those further out hold those further in, and come first
		text = strings.ReplaceAll(text, s.text, s.instead)
	}
	return temporary.ReplaceAllString(text, "$1")
}

// temporary is the name of a file or folder that is renamed when it is whole.
var temporary = regexp.MustCompile(`((?:^|[\s:])[^\s:]*?)/?\.(?:fitcheck-[a-z]+-[\w-]+|[^\s/:]+\d{9,})`)

// In one piece: the kinds of errors, one after the other.
func collect(err error, all *[]said) {
	if err == nil {
		return
	}
	add := func(instead string) {
		if text := err.Error(); text != "" && instead != text {
			*all = append(*all, said{text, instead})
		}
	}
	switch e := err.(type) {
	case *fs.PathError:
		says := one(e.Err)
		if errors.Is(e.Err, fs.ErrNotExist) && (strings.HasPrefix(e.Op, "mkdir") || temporary.MatchString(e.Path)) {
			says = "nothing can be made there"
		}
		add(e.Path + ": " + says)
		collect(e.Err, all) // of which only a part may be told
		return
	case *os.LinkError:
		add(e.New + ": " + one(e.Err))
		collect(e.Err, all)
		return
	case *os.SyscallError:
		add(one(e.Err))
		collect(e.Err, all)
		return
	case *net.OpError:
		where := ""
		if e.Addr != nil {
			where = e.Addr.String() + ": "
		}
		add(where + Text(e.Err))
		return
	case *json.SyntaxError:
		add(jsonWords(e.Error()))
		return
	case *xml.SyntaxError:
		add(xmlWords(e.Msg))
		return
	case syscall.Errno:
		add(one(e))
		return
	}
	switch {
	case err == io.EOF || err == io.ErrUnexpectedEOF || err == os.ErrDeadlineExceeded:
		add(one(err))
		return
	}
	switch e := err.(type) {
	case interface{ Unwrap() []error }:
		for _, inner := range e.Unwrap() {
			collect(inner, all)
		}
	case interface{ Unwrap() error }:
		collect(e.Unwrap(), all)
	}
}

func one(err error) string {
	for _, s := range system {
		if errors.Is(err, s.is) {
			return s.says
		}
	}
	return err.Error()
}

var (
	jsonCharacter = regexp.MustCompile(`^invalid character (.+?) (?:looking|after|in|before|within)\b.*`)
	xmlElement    = regexp.MustCompile(`^element <(.*)> closed by </(.*)>$`)
)

func jsonWords(t string) string {
	if m := jsonCharacter.FindStringSubmatch(t); m != nil {
		return m[1] + " does not belong there"
	}
	return "it ends in the middle"
}

func xmlWords(t string) string {
	if m := xmlElement.FindStringSubmatch(t); m != nil {
		return "<" + m[1] + "> is closed by </" + m[2] + ">"
	}
	if strings.Contains(t, "EOF") {
		return "it ends in the middle"
	}
	return t
}
