package pdf

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLexer(t *testing.T) {
	for _, c := range []struct {
		in   string
		want Object
	}{
		// ISO 32000-2, 7.3.3, 7.3.4.2, 7.3.4.3, 7.3.5: the examples of the standard
		{"123", Integer(123)}, {"+17", Integer(17)}, {"-98", Integer(-98)},
		{"34.5", Real(34.5)}, {"-3.62", Real(-3.62)}, {"+123.6", Real(123.6)}, {"4.", Real(4)}, {"-.002", Real(-.002)},
		{"(This is a string)", String("This is a string")},
		{"(Strings can contain balanced parentheses ()\nand special characters (*!&}^%and so on).)", String("Strings can contain balanced parentheses ()\nand special characters (*!&}^%and so on).")},
		{"(These \\\ntwo strings \\\nare the same.)", String("These two strings are the same.")},
		{"(\\0053)", String("\0053")}, {"(\\053)", String("+")}, {"(\\53)", String("+")},
		{"<4E6F762073686D6F7A206B6120706F702E>", String("Nov shmoz ka pop.")}, {"<901FA>", String("\x90\x1f\xa0")},
		{"/Name1", Name("Name1")}, {"/A;Name_With-Various***Characters?", Name("A;Name_With-Various***Characters?")},
		{"/lime#20Green", Name("lime Green")}, {"/paired#28#29parentheses", Name("paired()parentheses")}, {"/A#42", Name("AB")},
		{"[549 3.14 false (Ralph) /SomeName]", Array{Integer(549), Real(3.14), Boolean(false), String("Ralph"), Name("SomeName")}},
		{"[1 0 R 2 0 R]", Array{Ref{1, 0}, Ref{2, 0}}},
		{"null", nil}, {"true", Boolean(true)},
		// what real files hold besides
		{"--5", Integer(-5)}, {"1.2.3", Real(1.2)}, {"(a\r\nb)", String("a\nb")}, {"% comment\n7", Integer(7)},
		{"99999999999999999999", Real(1e20)},
	} {
		l := Lexer{Data: []byte(c.in), Refs: true}
		got, err := l.Next()
		require.NoError(t, err, c.in)
		assert.Equal(t, c.want, got, c.in)
	}
}

func TestLexerDict(t *testing.T) {
	l := Lexer{Data: []byte("<</Type/Page/Parent 4 0 R/Kids[5 0 R 6 0 R]/N 3/Sub<</A null/B 2>>/Last 1>>"), Refs: true}
	o, err := l.Next()
	require.NoError(t, err)
	assert.Equal(t, "<</Type/Page/Parent 4 0 R/Kids[5 0 R 6 0 R]/N 3/Sub<</B 2>>/Last 1>>", string(AppendObject(nil, o)))
}

func TestLexerRefuses(t *testing.T) {
	deep := make([]byte, 100_000)
	for i := range deep {
		deep[i] = '['
	}
	for _, in := range []string{string(deep), "<</A 1", "(no end", "[1 2", "<41"} {
		l := Lexer{Data: []byte(in), Refs: true}
		_, err := l.Next()
		assert.Error(t, err)
	}
}

// What is written is read back as the same object.
func TestSerialize(t *testing.T) {
	for _, o := range []Object{
		Integer(-7), Real(0.1), Real(1e-7), Real(123456789.125), Boolean(true), Name("a b#c/()"), Name(""),
		String("plain (with) \\ and\nlines\r"), String("\x00\xff\x80"), String(""),
		Array{Integer(1), Name("x"), Name("y"), String("s"), nil, Ref{12, 3}},
		NewDict("A", NewDict("B", Array{}), "C", Real(-0.5)),
	} {
		b := AppendObject(nil, o)
		l := Lexer{Data: b, Refs: true}
		got, err := l.Next()
		require.NoError(t, err, string(b))
		assert.Equal(t, o, got, string(b))
	}
}

func TestDictOrder(t *testing.T) {
	d := NewDict()
	for i := range 60 {
		d.Set(Name(rune('A'+i)), Integer(i))
	}
	d.Delete("C")
	d.Set("B", Integer(100))
	assert.Equal(t, 59, d.Len())
	assert.Equal(t, Integer(100), d.Get("B"))
	assert.Nil(t, d.Get("C"))
	assert.Equal(t, Name("D"), d.Entries()[2].Key)
	c := d.Clone()
	c.Set("A", Integer(-1))
	assert.Equal(t, Integer(0), d.Get("A"), "a clone is its own")
}

func TestTextStrings(t *testing.T) {
	for _, s := range []string{"plain", "Größe – “quoted”", "漢字 🙂", "a\nb"} {
		assert.Equal(t, s, Text(TextString(s)))
	}
	// annex D.3: PDFDocEncoding
	assert.Equal(t, "• – €", Text("\x80 \x85 \xa0"))
	assert.Equal(t, "Grün", Text("\xef\xbb\xbfGrün"))
}
