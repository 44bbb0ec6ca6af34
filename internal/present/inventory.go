package present

import (
	"fmt"

	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// Inventory is what became of the rows of an inventory.
type Inventory struct {
	Source, Into   string
	Devices        []InventoryDevice
	Written, Same  int
	Refused, Notes []string
}

// InventoryDevice is a device that a row told of.
type InventoryDevice struct {
	Name  string `json:"name"`
	File  string `json:"file"`
	Where string `json:"where"`
}

// InventoryPage says which device files were written, and which rows were refused.
func InventoryPage(i Inventory) *page.Page {
	t := page.Title{Word: "DEVICES", Tone: page.Good, Text: fmt.Sprintf("%s of %s in %s", wording.Count(len(i.Devices), "device file"), i.Source, i.Into)}
	if i.Same > 0 {
		t.About = append(t.About, page.Item{Text: fmt.Sprintf("%d written, %d say this already", i.Written, i.Same)})
	}
	if len(i.Refused) > 0 {
		t.Tone = page.Bad
		t.Text += ", " + wording.Count(len(i.Refused), "row") + " refused"
	}
	p := &page.Page{Name: "Devices of " + i.Source}
	p.Add(t)
	list := func(head, mark string, tone page.Tone, texts []string) {
		if len(texts) == 0 {
			return
		}
		l := page.List{Most: 12, Flag: page.Why}
		for _, r := range texts {
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: mark, Tone: tone}}, Text: r})
		}
		p.Add(page.Head{Text: head}, l)
	}
	list("refused", "X", page.Bad, i.Refused)
	list("left out", "?", page.Doubt, i.Notes)
	if len(i.Devices) > 0 {
		p.Add(whatNext([]string{"fitcheck match -device " + i.Into + " PACKAGE"})...)
	}
	return p
}

func init() {
	form(func() any { return InventoryJSON(Inventory{}) })
}

// InventoryJSON is the document of device for an inventory.
func InventoryJSON(i Inventory) any {
	return struct {
		Fitcheck about             `json:"fitcheck"`
		Source   string            `json:"source"`
		Into     string            `json:"into"`
		Devices  []InventoryDevice `json:"devices"`
		Written  int               `json:"written"`
		Refused  []string          `json:"refused"`
		Notes    []string          `json:"notes,omitempty"`
	}{about{"device", Edition}, i.Source, i.Into, append([]InventoryDevice{}, i.Devices...), i.Written, append([]string{}, i.Refused...), i.Notes}
}
