package pdf

import (
	"bytes"
	"fmt"
	"slices"
)

// Update writes the overlay as one incremental update (7.5.6): the bytes to put
// behind the file. It uses the file's own kind of cross-reference data; an
// update of a hybrid file is a plain table. id becomes the second part of the
// trailer's /ID (14.4). The document itself is not changed.
func (d *Document) Update(id [16]byte) ([]byte, error) { return d.update(id, appendIndirect) }

// update writes changed objects by what write does with each.
func (d *Document) update(id [16]byte, write func(b *bytes.Buffer, num, gen int, o Object) error) ([]byte, error) {
	if d.crypt != nil {
		return nil, refuse(ErrUnsupported, "a locked file is changed in a working copy that is not")
	}
	var b bytes.Buffer
	tail, _, err := d.window(d.size-1, 1)
	if err != nil {
		return nil, err
	}
	if len(tail) == 1 && tail[0] != '\n' && tail[0] != '\r' {
		b.WriteByte('\n')
	}
	nums := slices.Clone(d.changed)
	slices.Sort(nums)
	offs := make([]int64, len(nums))
	for i, n := range nums {
		offs[i] = d.size + int64(b.Len())
		if err := write(&b, n, d.gen(n), d.overlay[n]); err != nil {
			return nil, fmt.Errorf("writing object %d: %w", n, err)
		}
	}
	trailer := NewDict("Size", Integer(d.next), "Prev", Integer(d.start))
	for _, k := range []Name{"Root", "Info"} {
		trailer.Set(k, d.trailer.Get(k))
	}
	firstID := String(id[:])
	if a := d.Array(d.trailer.Get("ID")); len(a) == 2 {
		if s, ok := d.Resolve(a[0]).(String); ok {
			firstID = s
		}
	}
	trailer.Set("ID", Array{firstID, String(id[:])})
	at := d.size + int64(b.Len())
	if d.kind == xrefStream {
		self := d.next
		nums, offs = append(nums, self), append(offs, at)
		trailer.Set("Size", Integer(self+1))
		if err := appendIndirect(&b, self, 0, d.updateStream(trailer, nums, offs)); err != nil {
			return nil, err
		}
	} else {
		b.WriteString("xref\n")
		if len(nums) == 0 { // a section has at least one entry
			b.WriteString("0 1\n0000000000 65535 f\r\n")
		}
		d.updateTable(&b, nums, offs)
		b.WriteString("trailer\n")
		b.Write(AppendObject(nil, trailer))
		b.WriteByte('\n')
	}
	fmt.Fprintf(&b, "startxref\n%d\n%%%%EOF\n", at)
	return b.Bytes(), nil
}

// runs calls f for each run of numbers that follow one another: nums[i:j].
func runs(nums []int, f func(i, j int)) {
	for i := 0; i < len(nums); {
		j := i + 1
		for j < len(nums) && nums[j] == nums[j-1]+1 {
			j++
		}
		f(i, j)
		i = j
	}
}

func (d *Document) updateTable(b *bytes.Buffer, nums []int, offs []int64) {
	runs(nums, func(i, j int) {
		fmt.Fprintf(b, "%d %d\n", nums[i], j-i)
		for ; i < j; i++ {
			fmt.Fprintf(b, "%010d %05d n\r\n", offs[i], d.gen(nums[i]))
		}
	})
}

func (d *Document) updateStream(trailer *Dict, nums []int, offs []int64) *Stream {
	var index Array
	var data []byte
	width := 4
	if offs[len(offs)-1] > 1<<32-1 {
		width = 8
	}
	runs(nums, func(i, j int) {
		index = append(index, Integer(nums[i]), Integer(j-i))
		for ; i < j; i++ {
			data = append(data, 1)
			data = appendBig(data, offs[i], width)
			data = appendBig(data, int64(d.gen(nums[i])), 2)
		}
	})
	t := NewDict("Type", Name("XRef"), "W", Array{Integer(1), Integer(width), Integer(2)}, "Index", index)
	for _, e := range trailer.Entries() {
		t.Set(e.Key, e.Value)
	}
	return NewFlateStream(t, data)
}

func appendBig(b []byte, v int64, width int) []byte {
	for i := width - 1; i >= 0; i-- {
		b = append(b, byte(v>>(8*i)))
	}
	return b
}
