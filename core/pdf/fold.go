package pdf

import (
	"maps"
	"slices"
)

// Fold gives one incremental update of base (7.5.6) that leads to the same document as all
// updates since: the newest version of each object that they changed. What d has in its
// overlay is not in it.
func (d *Document) Fold(base *Document) ([]byte, error) {
	f := base.Fork()
	f.Discard()
	f.trailer, f.next = d.trailer, d.next
	for _, num := range slices.Sorted(maps.Keys(d.over)) {
		o, err := d.Load(Ref{Num: num, Gen: d.gen(num)})
		if err != nil {
			return nil, err
		}
		if s, ok := o.(*Stream); ok && s.Dict.Get("Type") == Name("XRef") {
			continue
		}
		f.Set(Ref{Num: num}, o)
	}
	var id [16]byte
	if a := d.Array(d.trailer.Get("ID")); len(a) == 2 {
		if s, ok := d.Resolve(a[1]).(String); ok {
			copy(id[:], s)
		}
	}
	return f.Update(id)
}
