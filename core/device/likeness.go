package device

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	y "fitcheck/core/yamlfile"
)

// unlike are the keys in which devices that are alike may differ: what tells one from another, and
// bears on no judgement.
var unlike = []string{"name", "serial", "address", "not_together", "read_from"}

// Likeness is a text of all that a judgement may rest on: two devices with one likeness get one
// verdict, and one way. Names, serials and addresses are left out, those of members of a group
// but their names, too. Where a value was read does not count, and that it is only a guess does.
func (d *Device) Likeness() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %v %d\n", d.Group.Text, d.Uniform, len(d.Members))
	d.Unit.likeness(&b)
	for i := range d.Members {
		fmt.Fprintf(&b, "\n%s: ", d.Members[i].Name.Text)
		d.Members[i].likeness(&b)
	}
	for _, name := range d.ManagerNames() {
		if m := d.Managers[name]; m != nil { // what its manager has counts, too
			fmt.Fprintf(&b, "\nmanager %s: %s", name, m.Likeness())
		}
	}
	return b.String()
}

func (u *Unit) likeness(b *strings.Builder) {
	v := reflect.ValueOf(u).Elem()
	for i := range v.NumField() {
		tag := v.Type().Field(i).Tag.Get("yaml")
		if tag == "" || slices.Contains(unlike, tag) || v.Field(i).IsZero() {
			continue
		}
		b.WriteString(tag + "=")
		writeValue(b, v.Field(i))
		b.WriteByte(';')
	}
	for _, e := range u.ReadFrom.Entries {
		if strings.HasSuffix(e.Value.Text, GuessMark) && !slices.Contains(unlike, e.Key) {
			b.WriteString("guess " + e.Key + ";")
		}
	}
}

// writeValue writes a value without its places.
func writeValue(b *strings.Builder, v reflect.Value) {
	switch v.Type() {
	case reflect.TypeFor[y.Spot]():
		return
	case reflect.TypeFor[time.Time]():
		fmt.Fprint(b, v.Interface())
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			b.WriteString("-")
			return
		}
		writeValue(b, v.Elem())
	case reflect.Slice:
		b.WriteByte('[')
		for i := range v.Len() {
			writeValue(b, v.Index(i))
			b.WriteByte(',')
		}
		b.WriteByte(']')
	case reflect.Struct:
		b.WriteByte('{')
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				writeValue(b, v.Field(i))
				b.WriteByte(',')
			}
		}
		b.WriteByte('}')
	case reflect.String:
		fmt.Fprintf(b, "%q", v.String())
	default:
		fmt.Fprint(b, v.Interface())
	}
}
