package pdf

import (
	"bytes"
	"fmt"
)

// New gives a document with an empty page tree: InsertPages puts the first
// pages into it. The version is 1.7.
func New() *Document {
	var b bytes.Buffer
	b.WriteString("%PDF-1.7\n")
	one := b.Len()
	b.WriteString("1 0 obj\n<</Type/Catalog/Pages 2 0 R>>\nendobj\n")
	two := b.Len()
	b.WriteString("2 0 obj\n<</Type/Pages/Kids[]/Count 0>>\nendobj\n")
	at := b.Len()
	fmt.Fprintf(&b, "xref\n0 3\n0000000000 65535 f\r\n%010d 00000 n\r\n%010d 00000 n\r\n", one, two)
	fmt.Fprintf(&b, "trailer\n<</Size 3/Root 1 0 R>>\nstartxref\n%d\n%%%%EOF\n", at)
	d, err := Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		panic(err) // the bytes above are constant
	}
	return d
}
