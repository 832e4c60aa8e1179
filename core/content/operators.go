package content

import "strings"

// Code is an operator's keyword, its bytes packed big-endian. Longer words than any operator's are Unknown.
type Code uint32

// Unknown is no operator of the standard.
const Unknown Code = 0xffffffff

// The operators (Annex A).
const (
	opB      Code = 'B'
	opBstar  Code = 'B'<<8 | '*'
	opb      Code = 'b'
	opbstar  Code = 'b'<<8 | '*'
	opBDC    Code = 'B'<<16 | 'D'<<8 | 'C'
	opBI     Code = 'B'<<8 | 'I'
	opBMC    Code = 'B'<<16 | 'M'<<8 | 'C'
	opBT     Code = 'B'<<8 | 'T'
	opc      Code = 'c'
	opcm     Code = 'c'<<8 | 'm'
	opCS     Code = 'C'<<8 | 'S'
	opcs     Code = 'c'<<8 | 's'
	opDP     Code = 'D'<<8 | 'P'
	opDo     Code = 'D'<<8 | 'o'
	opEMC    Code = 'E'<<16 | 'M'<<8 | 'C'
	opET     Code = 'E'<<8 | 'T'
	opf      Code = 'f'
	opF      Code = 'F'
	opfstar  Code = 'f'<<8 | '*'
	opG      Code = 'G'
	opg      Code = 'g'
	opgs     Code = 'g'<<8 | 's'
	oph      Code = 'h'
	opK      Code = 'K'
	opk      Code = 'k'
	opl      Code = 'l'
	opm      Code = 'm'
	opn      Code = 'n'
	opq      Code = 'q'
	opQ      Code = 'Q'
	opre     Code = 'r'<<8 | 'e'
	opRG     Code = 'R'<<8 | 'G'
	oprg     Code = 'r'<<8 | 'g'
	ops      Code = 's'
	opS      Code = 'S'
	opSC     Code = 'S'<<8 | 'C'
	opsc     Code = 's'<<8 | 'c'
	opSCN    Code = 'S'<<16 | 'C'<<8 | 'N'
	opscn    Code = 's'<<16 | 'c'<<8 | 'n'
	opsh     Code = 's'<<8 | 'h'
	opTstar  Code = 'T'<<8 | '*'
	opTc     Code = 'T'<<8 | 'c'
	opTd     Code = 'T'<<8 | 'd'
	opTD     Code = 'T'<<8 | 'D'
	opTf     Code = 'T'<<8 | 'f'
	opTj     Code = 'T'<<8 | 'j'
	opTJ     Code = 'T'<<8 | 'J'
	opTL     Code = 'T'<<8 | 'L'
	opTm     Code = 'T'<<8 | 'm'
	opTr     Code = 'T'<<8 | 'r'
	opTs     Code = 'T'<<8 | 's'
	opTw     Code = 'T'<<8 | 'w'
	opTz     Code = 'T'<<8 | 'z'
	opv      Code = 'v'
	opw      Code = 'w'
	opW      Code = 'W'
	opWstar  Code = 'W'<<8 | '*'
	opy      Code = 'y'
	opQuote  Code = '\''
	opQuote2 Code = '"'
)

// standard are the operators there are (ISO 32000-2, Annex A).
var standard = func() map[Code]bool {
	m := map[Code]bool{}
	for _, w := range strings.Fields("b B b* B* BDC BI BMC BT BX c cm CS cs d d0 d1 Do DP EI EMC ET EX f F f* G g gs h i ID j J K k l m M MP n q Q " +
		"re RG rg ri s S SC sc SCN scn sh T* Tc Td TD Tf Tj TJ TL Tm Tr Ts Tw Tz v w W W* y ' \"") {
		m[codeOf([]byte(w))] = true
	}
	return m
}()

// Standard reports whether it is an operator of the standard.
func (c Code) Standard() bool { return standard[c] }

// codeOf packs a keyword.
func codeOf(w []byte) Code {
	if len(w) > 3 || len(w) == 0 {
		return Unknown
	}
	var c Code
	for _, b := range w {
		c = c<<8 | Code(b)
	}
	return c
}

// String gives the keyword.
func (c Code) String() string {
	if c == Unknown {
		return "?"
	}
	b := []byte{byte(c >> 16), byte(c >> 8), byte(c)}
	for len(b) > 1 && b[0] == 0 {
		b = b[1:]
	}
	return string(b)
}

// Clips reports whether the operator makes the path a clip (8.5.4).
func (c Code) Clips() bool { return c == opW || c == opWstar }

// EndsText reports whether the operator ends a text object (9.4.1).
func (c Code) EndsText() bool { return c == opET }

// BeginsText reports whether it begins one.
func (c Code) BeginsText() bool { return c == opBT }

// Saves reports whether the operator is q (8.4.4).
func (c Code) Saves() bool { return c == 'q' }

// Restores reports whether it is Q.
func (c Code) Restores() bool { return c == 'Q' }

// Transforms reports whether it is cm.
func (c Code) Transforms() bool { return c == opcm }

// EndsMark reports whether it ends marked content.
func (c Code) EndsMark() bool { return c == opEMC }

// BeginsMark reports whether it begins marked content (BMC, BDC; 14.6).
func (c Code) BeginsMark() bool { return c == opBMC || c == opBDC }
