// Package tftp sends and receives files by the Trivial File Transfer Protocol:
// RFC 1350 in octet mode, with the options of RFC 2347, blksize (RFC 2348),
// timeout and tsize (RFC 2349), and windowsize (RFC 7440). It is both sides: a client,
// and a server of single files, which also gives out text in netascii mode to clients
// that ask for that. How long an answer is waited for follows the round trip (RFC 6298).
//
// A packet begins with its opcode, two bytes, big-endian:
//
//	1 RRQ, 2 WRQ   name 0 mode 0 { option 0 value 0 }
//	3 DATA         block (u16), up to blksize bytes; a short one is the last
//	4 ACK          block (u16): all up to this one came
//	5 ERROR        code (u16), message 0
//	6 OACK         { option 0 value 0 }
//
// Block numbers begin with 1 and go on with 0 after 65535, as every present
// implementation does, so that files may be longer than 65535 blocks.
package tftp

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

type opcode uint16

const (
	opRead  opcode = 1
	opWrite opcode = 2
	opData  opcode = 3
	opAck   opcode = 4
	opError opcode = 5
	opOack  opcode = 6
)

// Error codes of RFC 1350 and RFC 2347.
const (
	CodeUndefined = 0
	CodeNotFound  = 1
	CodeAccess    = 2
	CodeFull      = 3
	CodeIllegal   = 4
	CodeUnknownID = 5
	CodeExists    = 6
	CodeNoUser    = 7
	CodeOption    = 8
)

var codeNames = map[int]string{CodeNotFound: "file not found", CodeAccess: "access violation", CodeFull: "disk full", CodeIllegal: "illegal operation",
	CodeUnknownID: "unknown transfer ID", CodeExists: "file exists already", CodeNoUser: "no such user", CodeOption: "option refused"}

// Error is an error that the other side sent.
type Error struct {
	Code    int
	Message string
}

func (e *Error) Error() string {
	t := codeNames[e.Code]
	switch {
	case t == "":
		t = e.Message
	case e.Message != "" && !strings.EqualFold(e.Message, t):
		t += ": " + e.Message
	}
	if t == "" {
		t = "an error without a message"
	}
	return fmt.Sprintf("the other side says: %s (TFTP error %d)", t, e.Code)
}

// ErrTimeout: the other side did not answer, or no longer.
var ErrTimeout = errors.New("no answer")

// Block sizes of RFC 2348, and without negotiation.
const (
	MinBlock     = 8
	MaxBlock     = 65464
	DefaultBlock = 512
)

// option is one option of a request or an OACK.
type option struct{ name, value string }

// packet is a packet that was read.
type packet struct {
	op      opcode
	block   uint16
	data    []byte // of DATA
	code    int
	message string
	name    string // of a request
	mode    string
	options []option
}

// parse reads a packet. The error says what is wrong with it.
func parse(b []byte) (*packet, error) {
	if len(b) < 4 {
		return nil, fmt.Errorf("a packet of %d bytes is too short", len(b))
	}
	p := &packet{op: opcode(binary.BigEndian.Uint16(b))}
	rest := b[2:]
	switch p.op {
	case opData, opAck, opError:
		number := binary.BigEndian.Uint16(rest)
		rest = rest[2:]
		switch p.op {
		case opData:
			p.block, p.data = number, rest
		case opAck:
			p.block = number
		default:
			p.code = int(number)
			text, _, _ := bytes.Cut(rest, []byte{0})
			p.message = string(text[:min(len(text), 512)])
		}
		return p, nil
	case opRead, opWrite, opOack:
	default:
		return nil, fmt.Errorf("opcode %d is not one of TFTP", p.op)
	}
	var texts []string
	for len(rest) > 0 {
		text, after, ended := bytes.Cut(rest, []byte{0})
		if !ended {
			return nil, errors.New("a text of the packet does not end")
		}
		texts, rest = append(texts, string(text)), after
		if len(texts) > 64 {
			return nil, errors.New("the packet holds too many options")
		}
	}
	if p.op != opOack {
		if len(texts) < 2 {
			return nil, errors.New("a request needs a name and a mode")
		}
		p.name, p.mode, texts = texts[0], strings.ToLower(texts[1]), texts[2:]
	}
	if len(texts)%2 != 0 {
		return nil, errors.New("an option has no value")
	}
	for i := 0; i < len(texts); i += 2 {
		p.options = append(p.options, option{strings.ToLower(texts[i]), texts[i+1]})
	}
	return p, nil
}

func (p *packet) option(name string) (string, bool) {
	for _, o := range p.options {
		if o.name == name {
			return o.value, true
		}
	}
	return "", false
}

// number reads an option that is a number within bounds.
func number(text string, low, high int64) (int64, bool) {
	n, err := strconv.ParseInt(text, 10, 64)
	return n, err == nil && n >= low && n <= high
}

func start(op opcode) []byte { return binary.BigEndian.AppendUint16(nil, uint16(op)) }

func request(op opcode, name string, options []option) []byte {
	b := append(start(op), name...)
	b = append(b, 0)
	b = append(b, "octet\x00"...)
	return withOptions(b, options)
}

func oack(options []option) []byte { return withOptions(start(opOack), options) }

func withOptions(b []byte, options []option) []byte {
	for _, o := range options {
		b = append(b, o.name...)
		b = append(b, 0)
		b = append(b, o.value...)
		b = append(b, 0)
	}
	return b
}

func ack(block uint16) []byte { return binary.BigEndian.AppendUint16(start(opAck), block) }

func errorPacket(code int, message string) []byte {
	b := binary.BigEndian.AppendUint16(start(opError), uint16(code))
	b = append(b, strings.ReplaceAll(message, "\x00", "")...)
	return append(b, 0)
}
