package arrange

import (
	"crypto/sha256"
	"encoding/binary"
	"slices"

	"glenrain/core/draw"
	"glenrain/core/pdf"
)

// What was brought of a source is remembered in the document as long as it is worked on, so that the next pages of the same
// source don't bring its fonts and pictures again: pairs of object numbers, by the source's permanent identifier. It is only a
// hint: each object is compared before it is taken. It stays behind when the document goes out (draw.Tidy).

const (
	keySources   = pdf.Name("Sources")
	mostSources  = 200    // that are remembered
	mostPairs    = 50_000 // of one insertion
	mostOfSource = 500    // insertions of one source
)

// identity names a source: its permanent identifier (14.4), or where it has none, its size and its end.
func identity(src *pdf.Document) pdf.String {
	if a := src.Array(src.Trailer().Get("ID")); len(a) == 2 {
		if s, ok := src.Resolve(a[0]).(pdf.String); ok && len(s) >= 8 && len(s) <= 64 {
			return s
		}
	}
	end := make([]byte, min(src.Size(), 2048))
	_, _ = src.Source().ReadAt(end, src.Size()-int64(len(end))) // what can't be read makes another identity
	sum := sha256.Sum256(binary.BigEndian.AppendUint64(end, uint64(src.Size())))
	return pdf.String(sum[:16])
}

// remembered gives what doc has of a source: object numbers there and here.
func remembered(doc *pdf.Document, id pdf.String) map[int]int {
	pairs := map[int]int{}
	for _, o := range doc.Array(draw.ReadPrivate(doc).Get(keySources)) {
		d := doc.Dict(o)
		if doc.Resolve(d.Get("ID")) != id {
			continue
		}
		for _, p := range doc.Array(d.Get("Pairs")) {
			s := doc.Stream(p)
			if s == nil {
				continue
			}
			data, rest, err := doc.DecodeMost(s, 20*mostPairs)
			if err != nil || len(rest) > 0 {
				continue
			}
			from, to := 0, 0
			for len(data) > 0 {
				a, n := binary.Varint(data)
				b, m := binary.Varint(data[max(n, 0):])
				if n <= 0 || m <= 0 {
					break
				}
				data = data[n+m:]
				from, to = from+int(a), to+int(b)
				pairs[from] = to
			}
		}
	}
	return pairs
}

// remember keeps what was brought of a source and was not known before.
func remember(doc *pdf.Document, id pdf.String, brought, known map[int]int) error {
	var fresh []int
	for from, to := range brought {
		if known[from] != to {
			fresh = append(fresh, from)
		}
	}
	if len(fresh) == 0 || len(fresh) > mostPairs {
		return nil
	}
	slices.Sort(fresh)
	var data []byte
	from, to := 0, 0
	for _, f := range fresh {
		data = binary.AppendVarint(data, int64(f-from))
		data = binary.AppendVarint(data, int64(brought[f]-to))
		from, to = f, brought[f]
	}
	private, err := draw.Private(doc)
	if err != nil {
		return err
	}
	list := slices.Clone(doc.Array(private.Get(keySources)))
	i := slices.IndexFunc(list, func(o pdf.Object) bool { return doc.Resolve(doc.Dict(o).Get("ID")) == id })
	if i < 0 {
		if len(list) >= mostSources {
			return nil
		}
		i = len(list)
		list = append(list, doc.Add(pdf.NewDict("ID", id)))
	}
	ref, ok := list[i].(pdf.Ref)
	if !ok {
		return nil
	}
	source := doc.Edit(ref)
	pairs := doc.Array(source.Get("Pairs"))
	if len(pairs) >= mostOfSource {
		return nil
	}
	source.Set("Pairs", append(slices.Clone(pairs), doc.Add(pdf.NewFlateStream(nil, data))))
	private.Set(keySources, list)
	return nil
}
