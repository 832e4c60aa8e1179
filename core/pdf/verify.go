package pdf

import (
	"context"
	"fmt"
	"io"
	"runtime"
	"sync"
	"sync/atomic"
)

// OpenVerified is OpenMended for a file that is to be worked on: every object is read once, and a file in which
// one can't be is repaired. anew tells that the document is to be written anew before it is changed.
func OpenVerified(ctx context.Context, r io.ReaderAt, size int64, password string) (d *Document, wrong []string, anew bool, err error) {
	d, wrong, err = OpenMended(ctx, r, size, password)
	if err != nil {
		return nil, nil, false, err
	}
	unreadable, dangling, err := d.Verify(ctx)
	if err != nil {
		return nil, nil, false, err
	}
	if unreadable > 0 && !d.repaired {
		if again, what, err := Repair(ctx, r, size, password); err == nil {
			return again, what, true, nil
		}
	}
	if unreadable > 0 {
		wrong = append(wrong, fmt.Sprintf("%d of its objects could not be read and are left out", unreadable))
	}
	return d, wrong, dangling || len(wrong) > 0, nil
}

// Verify reads every object and tells how many can't be read, which are null from then on, and
// whether an object is referred to under a number that is still free: a new object would come to stand
// there. Where either is so, the document is to be written anew before it is changed.
func (d *Document) Verify(ctx context.Context) (unreadable int, dangling bool, err error) {
	lenient := d.lenient
	d.lenient = false
	defer func() { d.lenient = lenient || unreadable > 0 }()
	// Several read at once where there is much to read, each a run of numbers: objects that are packed together have neighbouring ones.
	const run = 256
	var bad, past, from atomic.Int64
	var all sync.WaitGroup
	var fault atomic.Value
	for range d.cores() {
		all.Go(func() {
			defer func() {
				if p := recover(); p != nil {
					fault.CompareAndSwap(nil, fmt.Sprint(p))
				}
			}()
			for ctx.Err() == nil {
				end := int(from.Add(run))
				for num := max(1, end-run); num < min(end, d.next); num++ {
					if e, _ := d.lookup(num); e.kind != 1 && e.kind != 2 {
						continue
					}
					if o, err := d.Load(Ref{Num: num, Gen: d.gen(num)}); err != nil {
						bad.Add(1)
					} else if refersPast(o, d.next) {
						past.Add(1)
					}
				}
				if end >= d.next {
					return
				}
			}
		})
	}
	all.Wait()
	if p := fault.Load(); p != nil {
		panic(p) // where whoever asked catches it
	}
	if err := ctx.Err(); err != nil {
		return 0, false, err
	}
	unreadable, dangling = int(bad.Load()), past.Load() > 0
	return unreadable, dangling || refersPast(d.trailer, d.next), nil
}

// largeFile is how many bytes a file has that several cores read at once. Each may unpack a stream to all that one may have: a small file that does so
// is not to take that several times.
const largeFile = 1 << 20

// cores is how many of them read a file.
func (d *Document) cores() int {
	if d.size < largeFile {
		return 1
	}
	return runtime.GOMAXPROCS(0)
}

func refersPast(o Object, next int) bool {
	switch v := o.(type) {
	case Ref:
		return v.Num >= next
	case Array:
		for _, e := range v {
			if refersPast(e, next) {
				return true
			}
		}
	case *Dict:
		for _, e := range v.Entries() {
			if refersPast(e.Value, next) {
				return true
			}
		}
	case *Stream:
		return refersPast(v.Dict, next)
	}
	return false
}
