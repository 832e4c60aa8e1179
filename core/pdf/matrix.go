package pdf

import (
	"math"
	"strconv"
)

// Matrix is a transformation as PDF writes it: x' = ax + cy + e, y' = bx + dy + f (8.3.3).
type Matrix [6]float64

// Identity leaves all as it is.
var Identity = Matrix{1, 0, 0, 1}

// Translate is the matrix that moves by x and y.
func Translate(x, y float64) Matrix { return Matrix{1, 0, 0, 1, x, y} }

// Mul gives the matrix that applies m first and n after it.
func (m Matrix) Mul(n Matrix) Matrix {
	return Matrix{
		m[0]*n[0] + m[1]*n[2], m[0]*n[1] + m[1]*n[3],
		m[2]*n[0] + m[3]*n[2], m[2]*n[1] + m[3]*n[3],
		m[4]*n[0] + m[5]*n[2] + n[4], m[4]*n[1] + m[5]*n[3] + n[5],
	}
}

// Apply takes a point through m.
func (m Matrix) Apply(x, y float64) (float64, float64) {
	return m[0]*x + m[2]*y + m[4], m[1]*x + m[3]*y + m[5]
}

// Invert gives the matrix that undoes m; the identity where m can't be undone.
func (m Matrix) Invert() Matrix {
	det := m[0]*m[3] - m[1]*m[2]
	if det == 0 || math.IsNaN(det) || math.IsInf(det, 0) {
		return Identity
	}
	return Matrix{m[3] / det, -m[1] / det, -m[2] / det, m[0] / det,
		(m[2]*m[5] - m[3]*m[4]) / det, (m[1]*m[4] - m[0]*m[5]) / det}
}

// Bounds gives the smallest upright rectangle around r, taken through m.
func (m Matrix) Bounds(r Rect) Rect {
	out := Rect{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}
	for _, p := range [4][2]float64{{r.X0, r.Y0}, {r.X1, r.Y0}, {r.X0, r.Y1}, {r.X1, r.Y1}} {
		x, y := m.Apply(p[0], p[1])
		out.X0, out.Y0, out.X1, out.Y1 = min(out.X0, x), min(out.Y0, y), max(out.X1, x), max(out.Y1, y)
	}
	return out
}

// String writes m as operands, rounded to 1e-4.
func (m Matrix) String() string {
	s := ""
	for i, v := range m {
		if i > 0 {
			s += " "
		}
		s += Decimal(v)
	}
	return s
}

// Decimal writes a number for content, rounded to 1e-4 units, which is far below what any device shows.
func Decimal(v float64) string {
	v = math.Round(v*1e4) / 1e4
	if v == 0 {
		v = 0 // no "-0"
	}
	return strconv.FormatFloat(v, 'f', -1, 64)
}
