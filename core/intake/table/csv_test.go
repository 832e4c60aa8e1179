package table

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/intake/page"
)

func TestSeparator(t *testing.T) {
	for text, want := range map[string]rune{
		"a,b,c\n1,2,3\n": ',', "a;b;c\n1,5;2,5;3,5\n": ';', "a\tb\n1\t2\n": '\t', "a|b|c\n1|2|3\n": '|',
		"just words\nin lines\n": ',', "": ',', "one line, with a comma": ',',
		"name;note\nTern;\"a, b, c\"\nSkua;\"d, e, f\"\n":     ';',
		"a;b\n" + strings.Repeat("1;2\n", 40_000) + "x,y,z\n": ';',
	} {
		assert.Equal(t, string(want), string(Separator(text)), "%.30q", text)
	}
}

func TestCSV(t *testing.T) {
	h, err := CSV("Dues", "Vessel;Length;Paid\nTern;12,5;yes\n\"Skua; the old one\";\"said \"\"no\"\"\";\n", 0, page.A4)
	require.NoError(t, err)
	require.Len(t, h.Rows, 3)
	assert.Equal(t, 1, h.Head)
	assert.Equal(t, 1, h.Rows[0].Cells[0].Style)
	assert.Equal(t, "Skua; the old one", h.Rows[2].Cells[0].Text)
	assert.Equal(t, `said "no"`, h.Rows[2].Cells[1].Text, "RFC 4180, 2.7: a quotation mark is written twice")
	assert.Equal(t, "", h.Rows[2].Cells[2].Text)
	assert.True(t, h.Rows[1].Cells[1].Number)
	assert.False(t, h.Rows[1].Cells[0].Number)

	for _, text := range []string{"Vessel,Vessel\nTern,Skua\n", "Vessel,\nTern,1\n", "Vessel,2026\nTern,1\n", "Vessel,Length\n"} {
		h, err := CSV("x", text, ',', page.A4)
		require.NoError(t, err)
		assert.Zero(t, h.Head, "%q has no header, or nothing under it", text)
	}
	_, err = CSV("x", "a,b\n1,\"open\n"+strings.Repeat("2,the rest of the file\n", 3000), ',', page.A4)
	assert.EqualError(t, err, "line 2 can’t be read as separated values: a quotation mark is not closed", "nothing of it is lost in one value")
	h, err = CSV("x", "a,b\n"+strings.Repeat("é", maxValue)+",\xff\n", ',', page.A4)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(h.Rows[1].Cells[0].Text), maxValue+3, "a value that is no value")
	assert.Equal(t, "\ufffd", h.Rows[1].Cells[1].Text)
	_, err = CSV("x", strings.Repeat("1,2\n", MaxRows+1), ',', page.A4)
	assert.ErrorIs(t, err, ErrTooMany)
	_, err = CSV("x", strings.Repeat(",", MaxCells+1), ',', page.A4)
	assert.ErrorIs(t, err, ErrTooMany)
	h, err = CSV("x", "", 0, page.A4)
	require.NoError(t, err)
	assert.Empty(t, h.Rows)
}

func TestNumbersOfCells(t *testing.T) {
	for v, want := range map[string]bool{"12": true, "-3.5": true, "1,234.50": true, "12,5": true, "": false, "Berth 4": false, "2026-11-03": false, "-": false, "+44 20": false} {
		assert.Equal(t, want, isNumber(v), fmt.Sprintf("%q", v))
	}
}
