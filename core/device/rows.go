package device

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/tree"
)

// Rows of an inventory as comma-separated values (RFC 4180; semicolons and tabs do, too): each
// is a device.

// RowReading is one row: what it says, or why it is refused.
type RowReading struct {
	*Reading
	Name    string // of the device: its name, else its serial number
	Refused string
}

// ReadRows reads an inventory. columns give, for a key of a device file, the heading under which
// it stands; a heading that is a key itself needs none. A cell that says nothing says nothing.
func ReadRows(file string, data []byte, columns map[string]string) ([]RowReading, error) {
	text, err := decoded(file, data)
	if err != nil {
		return nil, err
	}
	r := tree.CSV(text)
	r.LazyQuotes = true
	head, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("%s: it holds no rows; the first line names the columns", file)
	}
	keys, err := headings(file, head, columns)
	if err != nil {
		return nil, err
	}
	var out []RowReading
	for {
		cells, err := r.Read()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w; save it again as comma-separated values", file, err)
		}
		line, _ := r.FieldPos(0)
		if !slices.ContainsFunc(cells, func(c string) bool { return strings.TrimSpace(c) != "" }) {
			continue
		}
		if len(out) >= maxRows {
			return nil, fmt.Errorf("%s: it has more than %d rows; split it", file, maxRows)
		}
		out = append(out, row(file, line, cells, keys))
	}
}

// maxRows bounds the devices of one inventory.
const maxRows = 100_000

// headings finds the key of each column; "" for one that is passed over.
func headings(file string, head []string, columns map[string]string) ([]string, error) {
	keys := make([]string, len(head))
	taken := map[string]string{}
	for _, key := range slices.Sorted(maps.Keys(columns)) {
		heading := columns[key]
		if err := CheckKey(key); err != nil {
			return nil, err
		}
		i := named(head, heading)
		if i < 0 {
			return nil, fmt.Errorf("%s: no column is called %q; the columns are %s", file, heading, strings.Join(head, ", "))
		}
		if k := named(head[i+1:], heading); k >= 0 {
			return nil, calledTwice(file, heading, i, i+1+k)
		}
		if keys[i] != "" {
			return nil, fmt.Errorf("%s: the column %q is given for %s and for %s", file, heading, keys[i], key)
		}
		keys[i], taken[key] = key, heading
	}
	for i, h := range head {
		key := strings.ToLower(strings.TrimSpace(h))
		if CheckKey(key) != nil || keys[i] != "" {
			continue
		}
		if heading, mapped := taken[key]; !mapped {
			keys[i], taken[key] = key, h
		} else if k := named(head, heading); columns[key] == "" {
			return nil, calledTwice(file, h, k, i)
		}
	}
	if len(taken) == 0 {
		return nil, fmt.Errorf("%s: no column is a key of a device file (%s); say which is what with -map model=HEADING,serial=HEADING", file, strings.Join(head, ", "))
	}
	return keys, nil
}

// named finds the first column that is called so; -1 where none is.
func named(head []string, heading string) int {
	return slices.IndexFunc(head, func(h string) bool { return strings.EqualFold(strings.TrimSpace(h), strings.TrimSpace(heading)) })
}

// calledTwice tells of two columns, counted from 0, of which nobody can say which one is meant.
func calledTwice(file, heading string, one, other int) error {
	return fmt.Errorf("%s: the columns %d and %d are both called %q; rename the one that is not meant", file, one+1, other+1, strings.TrimSpace(heading))
}

func row(file string, line int, cells, keys []string) RowReading {
	r := RowReading{Reading: &Reading{File: file, Form: "row of an inventory"}}
	where := lineOf(file, line)
	for i, c := range cells {
		if i >= len(keys) || keys[i] == "" || blankText(c) {
			continue
		}
		list := []string{c}
		if slices.Contains(lists, keys[i]) {
			list = strings.FieldsFunc(c, func(r rune) bool { return r == ';' || r == '|' || r == ' ' && keys[i] != "faults" })
		}
		for _, t := range list {
			r.take("", keys[i], t, where)
		}
	}
	r.call(where)
	return r
}

// call names a device: by its name, else by its serial number; one with neither is refused.
func (r *RowReading) call(where fact.Source) {
	for _, key := range []string{"name", "serial"} {
		for _, v := range r.Values {
			if v.Key == key && v.Member == "" && r.Name == "" {
				r.Name = v.Text
			}
		}
	}
	if r.Name == "" {
		r.Refused = where.Where() + ": the row has neither a name nor a serial number, and nothing to call the device by"
	}
}
