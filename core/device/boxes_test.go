package device

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// named lists the devices that a source tells of, with their models, and what is refused.
func namedDevices(rows []RowReading) []string {
	var out []string
	for _, r := range rows {
		if r.Refused != "" {
			out = append(out, "refused "+r.Refused)
			continue
		}
		t := r.Name
		for _, v := range r.Values {
			if v.Key == "model" && v.Member == "" {
				t += " " + v.Text
			}
		}
		out = append(out, t)
	}
	return out
}

const twoBoxes = `.1.3.6.1.2.1.47.1.1.1.1.5.1 = INTEGER: 3
.1.3.6.1.2.1.47.1.1.1.1.7.1 = STRING: "gw-1"
.1.3.6.1.2.1.47.1.1.1.1.13.1 = STRING: "VG-20"
.1.3.6.1.2.1.47.1.1.1.1.11.1 = STRING: "GW-1107"
.1.3.6.1.2.1.47.1.1.1.1.5.2 = INTEGER: 3
.1.3.6.1.2.1.47.1.1.1.1.7.2 = STRING: "gw-2"
.1.3.6.1.2.1.47.1.1.1.1.13.2 = STRING: "VG-20"
.1.3.6.1.2.1.47.1.1.1.1.11.2 = STRING: "GW-1131"
`

// One source may tell of several devices: rows, objects, boxes that nothing calls a group. A stack
// stays one.
func TestReadDevices(t *testing.T) {
	hardware := func(more string) string {
		return `{"ietf-hardware:hardware": {"component": [
 {"name": "one", "class": "iana-hardware:chassis", "model-name": "VG-20", "serial-num": "1"},
 {"name": "two", "class": "iana-hardware:chassis", "model-name": "VG-21", "serial-num": "2"}` + more + `]}}`
	}
	for name, c := range map[string]struct {
		file, text string
		columns    map[string]string
		want       []string
	}{
		"rows":                       {"a.csv", "name,model\nx,VR-1\ny,VR-2\n", nil, []string{"x VR-1", "y VR-2"}},
		"rows without the ending":    {"a.txt", "Host;Type\nx;VR-1\n", map[string]string{"name": "Host", "model": "Type"}, []string{"x VR-1"}},
		"rows with quotes in cells":  {"a.csv", "name,model\nx \"east\",VR-1\n", nil, []string{`x "east" VR-1`}},
		"objects":                    {"a.json", `[{"name": "x", "model": "VR-1"}, {"serial": 7, "model": "VR-2"}, {"model": "VR-3"}]`, nil, []string{"x VR-1", "7 VR-2", "refused a.json:1: the row has neither a name nor a serial number, and nothing to call the device by"}},
		"objects, by paths":          {"a.json", `{"sites": [{"host": "x", "hw": {"type": "VR-1"}}]}`, map[string]string{"name": "host", "model": "hw.type"}, []string{"x VR-1"}},
		"boxes of an inventory":      {"a.json", hardware(""), nil, []string{"one VG-20", "two VG-21"}},
		"a stack is one":             {"hall.json", hardware(`, {"name": "s", "class": "iana-hardware:stack"}`), nil, []string{"hall"}},
		"boxes of a walk":            {"walk.txt", twoBoxes, nil, []string{"gw-1 VG-20", "gw-2 VG-20"}},
		"one box alone is a device":  {"walk.txt", strings.Join(strings.SplitAfter(twoBoxes, "\n")[:4], ""), nil, []string{"GW-1107 VG-20"}},
		"a capture, read by guesses": {"cap.txt", "Host name : x\nModel : VR-1\n", nil, []string{"x VR-1"}},
	} {
		rows, err := ReadDevices(c.file, []byte(c.text), c.columns, nil)
		require.NoError(t, err, name)
		assert.Equal(t, c.want, namedDevices(rows), name)
	}
	for text, want := range map[string]string{
		`[{"a": 1}]`: "no object has \"b\", which is given for model", "x": "nothing in it is known",
	} {
		_, err := ReadDevices("a.json", []byte(text), map[string]string{"model": "b"}, nil)
		if text == "x" {
			_, err = ReadDevices("a.txt", []byte(text), nil, nil)
		}
		assert.ErrorContains(t, err, want)
	}
}

// Of two columns of one name nobody can say which is meant: that is refused where either counts, and no matter otherwise.
func TestColumnsCalledTwice(t *testing.T) {
	for text, want := range map[string]string{
		"name,Model,x,model\na,VR-1,,VR-2\n":    `r.csv: the columns 2 and 4 are both called "model"; rename the one that is not meant`,
		"name,Type,x, type \na,VR-1,,VR-2\n":    "",
		"name,x,x\na,1,2\n":                     "",
		"Host,name,Host\na,b,c\n":               `r.csv: the columns 1 and 3 are both called "Host"; rename the one that is not meant`,
		"Host,model,MODEL,model\na,b,c,d\n":     `r.csv: the columns 2 and 3 are both called "MODEL"; rename the one that is not meant`,
		"Host,name,name,model\na,b,c,VR-1\n":    "", // its name is given elsewhere
		"host ;name;model;Other\na;b;VR-1;c;\n": "",
	} {
		columns := map[string]string{}
		if strings.HasPrefix(strings.ToLower(text), "host") {
			columns["name"] = "Host"
		}
		_, err := ReadRows("r.csv", []byte(text), columns)
		if want == "" {
			assert.NoError(t, err, text)
			continue
		}
		assert.EqualError(t, err, want, text)
	}
}

// No source makes ReadDevices fail otherwise than by an error.
func FuzzReadDevices(f *testing.F) {
	f.Add("a.csv", "name,model\nx,VR-1\n")
	f.Add("a.json", `{"sites": [{"name": "x", "hw": {"type": "VR-1"}}]}`)
	f.Add("walk.txt", twoBoxes)
	f.Fuzz(func(t *testing.T, file, text string) {
		rows, err := ReadDevices(file, []byte(text), map[string]string{"model": "hw.type"}, nil)
		if err != nil {
			return
		}
		for _, r := range rows {
			assert.True(t, r.Name != "" || r.Refused != "")
		}
	})
}
