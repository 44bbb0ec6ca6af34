package device

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fact"
)

// ReadSource reads what a file says of a device, whatever it is: a console
// capture, an identity EEPROM (raw or as a hex dump), a device tree blob, an
// inventory document, an SNMP walk, or a device file of another day. The rules say how captures are read;
// without one that recognises it, a capture gives guesses only.
func ReadSource(file string, data []byte, rules []CaptureRule) (*Reading, error) {
	data, err := decoded(file, data)
	if err != nil {
		return nil, err
	}
	in := &input{file: file, data: data, rules: rules}
	if len(in.begins()) == 0 {
		return nil, fmt.Errorf("%s: the file is empty", file)
	}
	for _, f := range forms {
		if f.rank >= textRank && !in.isText() {
			return nil, fmt.Errorf("%s: it is neither text nor an identity EEPROM nor a device tree; give a console capture, a dump or an inventory document", file)
		}
		if r, ok, err := f.read(in); ok || err != nil {
			return r, err
		}
	}
	return nil, fmt.Errorf("%s: nothing in it is known to say what the device is; add captures: to the rulebook of this line", file)
}

// ReadFolder reads the unpacked device tree of a device.
func ReadFolder(dir string) (*Reading, error) { return readTree(dir) }

// ByHandValue makes a value that a person gives as KEY=VALUE; the key may begin
// with a member's name and a slash.
func ByHandValue(text string) (Value, error) {
	key, value, ok := strings.Cut(text, "=")
	if !ok {
		return Value{}, fmt.Errorf("%q: write KEY=VALUE, as in installed.main=8.2.1", text)
	}
	member := ""
	if i := strings.LastIndexByte(key, '/'); i >= 0 {
		member, key = key[:i], key[i+1:]
	}
	if err := CheckKey(key); err != nil {
		return Value{}, err
	}
	t, err := tidy(key, value)
	if err != nil {
		return Value{}, err
	}
	return Value{Member: member, Key: key, Text: t, At: byHand(text)}, nil
}

// isList tells the keys whose values add up.
func isList(key string) bool { return slices.Contains(lists, key) }

// TextLine is one line of a capture as a person would have seen it.
type TextLine struct {
	Text string
	At   fact.Source
}

// Lines are the lines of a capture; none of what is no text.
func Lines(file string, data []byte) ([]TextLine, error) {
	data, err := decoded(file, data)
	if err != nil || bytes.IndexByte(data[:min(len(data), 4096)], 0) >= 0 {
		return nil, err
	}
	var out []TextLine
	for _, l := range unwrap(screenLines(data)) {
		if text := l.bare(); strings.TrimSpace(text) != "" {
			out = append(out, TextLine{text, lineOf(file, l.number)})
		}
	}
	return out, nil
}
