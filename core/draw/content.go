// Package draw writes content: operators, text in embedded faces, form XObjects,
// artifacts, and what Glenrain places on pages so that it can be removed again.
// It takes page objects of core/pdf and changes them; what is to be drawn, and on
// which pages, is for the jobs to say.
package draw

import (
	"bytes"
	"strconv"

	"glenrain/core/pdf"
)

// Content builds a content stream (ISO 32000-2, 7.8.2).
type Content struct{ b bytes.Buffer }

// Op writes an operator after its operands. Numbers are rounded to 1e-4 units,
// which is far below what any device shows.
func (c *Content) Op(operator string, operands ...any) *Content {
	for _, o := range operands {
		switch v := o.(type) {
		case float64:
			c.b.WriteString(pdf.Decimal(v))
		case int:
			c.b.WriteString(strconv.Itoa(v))
		case pdf.Object:
			c.b.Write(pdf.AppendObject(nil, v))
		}
		c.b.WriteByte(' ')
	}
	c.b.WriteString(operator)
	c.b.WriteByte('\n')
	return c
}

// Matrix writes cm with m.
func (c *Content) Matrix(m pdf.Matrix) *Content {
	return c.Op("cm", m[0], m[1], m[2], m[3], m[4], m[5])
}

// Bytes gives the stream so far.
func (c *Content) Bytes() []byte { return c.b.Bytes() }

// Upright is the matrix from the page as it is seen (points, origin at the lower
// left corner of what is visible, upright) to the page's default user space.
func Upright(g pdf.Geometry) pdf.Matrix {
	s := 1 / g.UserUnit
	v := g.Visible
	switch g.Rotate {
	case 90:
		return pdf.Matrix{0, s, -s, 0, v.X1, v.Y0}
	case 180:
		return pdf.Matrix{-s, 0, 0, -s, v.X1, v.Y1}
	case 270:
		return pdf.Matrix{0, -s, s, 0, v.X0, v.Y1}
	}
	return pdf.Matrix{s, 0, 0, s, v.X0, v.Y0}
}

// Form adds a form XObject (8.10) to the document.
func Form(doc *pdf.Document, bbox pdf.Rect, resources *pdf.Dict, content []byte) pdf.Ref {
	return doc.Add(pdf.NewFlateStream(pdf.NewDict(
		"Type", pdf.Name("XObject"), "Subtype", pdf.Name("Form"), "BBox", bbox.Array(), "Resources", resources,
	), content))
}
