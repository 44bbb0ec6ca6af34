package archive

import (
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	txz "github.com/therootcompany/xz"

	"archive/zip"

	"fitcheck/core/content"
	"fitcheck/core/fault"
	"fitcheck/core/xzarm"
)

// What goes wrong while content is read is one of three things, and they are never
// taken for one another: the content is damaged; this program cannot read it, which
// says nothing of the content; or a bound was passed (BoundError), which ends the walk.

// cannotRead is the error of what this program does not serve: a method, a filter,
// an encryption.
type cannotRead struct{ what, advice string }

func (e *cannotRead) Error() string { return e.what }

const (
	unpackElsewhere = "unpack it with a program that knows it, then survey the folder"
	decryptFirst    = "decrypt the package with its maker's tool, then survey the result"
	downloadAgain   = "download the package again"
)

// errEncrypted: the content cannot be read without a key.
var errEncrypted = &cannotRead{"encrypted: its content cannot be checked", decryptFirst}

// wrong sorts an error of the content, in words.
func wrong(err error) (c Class, what, advice string) {
	var cannot *cannotRead
	var unsupported *content.Unsupported
	switch {
	case errors.As(err, &unsupported):
		return Unreadable, unsupported.What, unpackElsewhere
	case errors.As(err, &cannot):
		return Unreadable, cannot.what, cannot.advice
	case errors.Is(err, txz.ErrOptions), errors.Is(err, txz.ErrUnsupportedCheck), errors.Is(err, xzarm.ErrUnsupported):
		return Unreadable, "it cannot be read: its xz stream uses a filter or check that fitcheck does not know", unpackElsewhere
	case errors.Is(err, zstd.ErrUnknownDictionary):
		return Unreadable, "it cannot be read: its zstd stream needs a dictionary that is not in it", unpackElsewhere
	case errors.Is(err, lz4.ErrInvalidFrameDescriptor):
		return Unreadable, "it cannot be read: its lz4 stream uses an option that fitcheck does not know", unpackElsewhere
	}
	return Damaged, describe(err), downloadAgain
}

// describe puts the errors of damaged content into words, and never the words of a
// library or of the language.
func describe(err error) string {
	var corrupt flate.CorruptInputError
	var own *damage
	var files *content.Damage
	switch {
	case errors.As(err, &files):
		return "damaged: " + files.What
	case errors.As(err, &own):
		return own.what
	case errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF):
		return "truncated: the content ends before its time"
	case errors.Is(err, zip.ErrChecksum):
		return "damaged: the CRC-32 that the zip gives for it does not match its content"
	case errors.Is(err, zip.ErrFormat):
		return "damaged: its zip structure contradicts itself"
	case errors.Is(err, gzip.ErrChecksum):
		return "damaged: the CRC-32 or length that the gzip stream gives does not match its content"
	case errors.Is(err, gzip.ErrHeader):
		return "damaged: its gzip header makes no sense"
	case errors.As(err, &corrupt):
		return fmt.Sprintf("damaged: the compressed data makes no sense at byte %d of it", int64(corrupt))
	case errors.Is(err, txz.ErrData), errors.Is(err, txz.ErrFormat), errors.Is(err, txz.ErrBuf), errors.Is(err, xzarm.ErrData), errors.Is(err, xzarm.ErrCheck):
		return "damaged: the xz stream or its checksum makes no sense"
	case errors.Is(err, zstd.ErrCRCMismatch):
		return "damaged: the checksum that the zstd stream gives does not match its content"
	case errors.Is(err, lz4.ErrInvalidFrameChecksum), errors.Is(err, lz4.ErrInvalidBlockChecksum), errors.Is(err, lz4.ErrInvalidHeaderChecksum):
		return "damaged: a checksum that the lz4 stream gives does not match its content"
	}
	return unnamed
}

// unnamed is said where the error of a library has no words of ours.
const unnamed = "damaged: its content makes no sense"

// damage is an error of the content that this package has found itself.
type damage struct{ what string }

func (e *damage) Error() string { return e.what }

func damagedf(format string, args ...any) error {
	return &damage{"damaged: " + fmt.Sprintf(format, args...)}
}

// guard calls a library on hostile bytes. A panic of it says nothing of the content:
// the content cannot be read by this program.
func guard(do func() error) error {
	err := fault.Do(do)
	var own *fault.Error
	if errors.As(err, &own) {
		return &cannotRead{"it cannot be read: its structure is none that fitcheck can follow", unpackElsewhere}
	}
	return err
}

// guardedReader reads through guard.
type guardedReader struct{ io.Reader }

func (g guardedReader) Read(p []byte) (n int, err error) {
	err = guard(func() (err error) {
		n, err = g.Reader.Read(p)
		return err
	})
	return n, err
}
