package content_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"glenrain/core/content"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// shown gives the letters of a page that optional content leaves visible.
func shown(p *content.Page) string {
	var b strings.Builder
	for _, s := range p.Shows {
		if !s.Hidden {
			b.WriteString(p.Glyphs[s.First].Char.Text)
		}
	}
	return b.String()
}

// layered is a page of letters, each under a membership of its own, besides x, which is under none: objects 6 and 7
// are groups, the memberships follow.
func layered(t *testing.T, config string, memberships ...string) *content.Page {
	var stream, names strings.Builder
	more := []string{"<</Type/OCG/Name(harbour)>>", "<</Type/OCG/Name(dredging)>>"}
	for i, m := range memberships {
		letter := string(rune('a' + i))
		stream.WriteString("/OC /" + letter + " BDC BT /F 9 Tf (" + letter + ") Tj ET EMC ")
		names.WriteString("/" + letter + " " + m)
	}
	doc, ref := page(t, stream.String()+"BT /F 9 Tf (x) Tj ET", "/Properties<<"+names.String()+">>", more...)
	doc.Edit(doc.Root()).Set("OCProperties", pdf.NewDict("OCGs", pdf.Array{pdf.Ref{Num: 6}, pdf.Ref{Num: 7}}, "D", object(t, config)))
	return read(t, doc, ref, content.Options{})
}

func object(t *testing.T, s string) pdf.Object {
	t.Helper()
	o, err := (&pdf.Lexer{Data: []byte(s), Refs: true}).Next()
	if err != nil {
		t.Fatal(err)
	}
	return o
}

// Groups by the default configuration (8.11.4.3): what is off, or, where all begin off, what is on.
func TestLayerStates(t *testing.T) {
	for config, want := range map[string]string{
		"<<>>":                            "abx",
		"<</OFF[6 0 R]>>":                 "bx",
		"<</OFF[6 0 R 7 0 R]>>":           "x",
		"<</BaseState/OFF>>":              "x",
		"<</BaseState/OFF/ON[7 0 R]>>":    "bx",
		"<</BaseState/ON/OFF[7 0 R 99]>>": "ax",
	} {
		assert.Equal(t, want, shown(layered(t, config, "6 0 R", "7 0 R")), config)
	}
}

// Memberships: the policies of 8.11.2.2, table 97, with group 6 on and group 7 off.
func TestMemberships(t *testing.T) {
	for membership, visible := range map[string]bool{
		"<</Type/OCMD/OCGs[6 0 R 7 0 R]>>":                            true, // AnyOn is what is meant where nothing is said
		"<</Type/OCMD/OCGs[6 0 R 7 0 R]/P/AnyOn>>":                    true,
		"<</Type/OCMD/OCGs 7 0 R/P/AnyOn>>":                           false,
		"<</Type/OCMD/OCGs[6 0 R 7 0 R]/P/AllOn>>":                    false,
		"<</Type/OCMD/OCGs 6 0 R/P/AllOn>>":                           true,
		"<</Type/OCMD/OCGs[6 0 R 7 0 R]/P/AnyOff>>":                   true,
		"<</Type/OCMD/OCGs[6 0 R]/P/AnyOff>>":                         false,
		"<</Type/OCMD/OCGs[6 0 R 7 0 R]/P/AllOff>>":                   false,
		"<</Type/OCMD/OCGs[7 0 R]/P/AllOff>>":                         true,
		"<</Type/OCMD>>":                                              true, // of no group
		"<</Type/OCMD/OCGs[null]/P/AllOff>>":                          true,
		"<</Type/OCMD/OCGs 7 0 R/VE[/Not 7 0 R]>>":                    true, // an expression goes before groups
		"<</Type/OCMD/VE[/And 6 0 R 7 0 R]>>":                         false,
		"<</Type/OCMD/VE[/And 6 0 R[/Not 7 0 R]]>>":                   true,
		"<</Type/OCMD/VE[/Or 7 0 R[/And 6 0 R 6 0 R]]>>":              true,
		"<</Type/OCMD/VE[/Or 7 0 R 7 0 R]>>":                          false,
		"<</Type/OCMD/VE[/Not[/Or 6 0 R 7 0 R]]>>":                    false,
		"<</Type/OCMD/VE[]>>":                                         true,
		"<</Type/OCMD/VE[/Neither 7 0 R]>>":                           true,
		"<</Type/OCMD/VE[/Not]>>":                                     true,
		"<</Type/OCMD/VE" + strings.Repeat("[/And", 40) + "[/Or]":     true, // nested past any use
		"<</Type/OCMD/VE[/And 6 0 R[/Not[/Not[/Not[/Not 6 0 R]]]]]>>": true,
	} {
		if strings.Count(membership, "[") > 30 {
			membership += strings.Repeat("]", 40) + ">>"
		}
		want := "x"
		if visible {
			want = "ax"
		}
		assert.Equal(t, want, shown(layered(t, "<</OFF[7 0 R]>>", membership)), membership)
	}
}

// Forms and annotations of a group that is off are hidden with all in them.
func TestHiddenForms(t *testing.T) {
	form := func(more, letter string) string {
		return pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 9 9]/Resources<</Font<</F 5 0 R>>>>"+more, "BT /F 9 Tf ("+letter+") Tj ET")
	}
	doc, ref := page(t, "/A Do /B Do", "/XObject<</A 7 0 R/B 8 0 R>>", "<</Type/OCG/Name(dredging)>>", form("/OC 6 0 R", "a"), form("", "b"),
		"<</Type/Annot/Subtype/Stamp/Rect[0 0 9 9]/OC 6 0 R/AP<</N 8 0 R>>>>", "<</Type/Annot/Subtype/Stamp/Rect[0 0 9 9]/AP<</N 8 0 R>>>>")
	doc.Edit(ref).Set("Annots", pdf.Array{pdf.Ref{Num: 9}, pdf.Ref{Num: 10}})
	assert.Equal(t, "abbb", shown(read(t, doc, ref, content.Options{})))
	doc.Edit(doc.Root()).Set("OCProperties", pdf.NewDict("OCGs", pdf.Array{pdf.Ref{Num: 6}}, "D", object(t, "<</OFF[6 0 R]>>")))
	assert.Equal(t, "bb", shown(read(t, doc, ref, content.Options{})))
}
