package raster

import (
	"cmp"
	"encoding/binary"
	"image"
	"image/color"
	"slices"
)

const (
	mostColours = 1 << 11 // distinct ones that are looked at
	mostExact   = 64      // the most frequent ones, which stay as they are
	alike       = 4       // of 255, in each of red, green and blue: what nobody sees on the edge of a letter
)

// fewColours gives the same picture with a palette, which takes a quarter of the time to pack. Where there are more than 256 colours,
// rare ones become a more frequent one that is no further than near from them in each channel. It is nil where that does not
// do, or where the picture is see-through somewhere.
func fewColours(img *image.RGBA, near int) *image.Paletted {
	size := img.Bounds().Size()
	const slots = 4 * mostColours // of an open table, at most a quarter full
	var (
		table  = make([]uint16, slots) // the index of a colour in all, from 1 on
		all    []counted
		pixels = make([]uint16, size.X*size.Y)
		last   = uint32(0)
		index  = uint16(0)
	)
	for y := range size.Y {
		row := img.Pix[y*img.Stride : y*img.Stride+4*size.X]
		to := pixels[y*size.X:]
		for x := 0; x < len(row); x += 4 {
			c := binary.LittleEndian.Uint32(row[x:])
			if c != last || all == nil {
				if c>>24 != 0xff {
					return nil
				}
				h := c * 0x9e3779b1 % slots
				for table[h] != 0 && all[table[h]-1].colour != c {
					h = (h + 1) % slots
				}
				if table[h] == 0 {
					if len(all) == mostColours || near == 0 && len(all) == 256 {
						return nil
					}
					all = append(all, counted{colour: c})
					table[h] = uint16(len(all))
				}
				last, index = c, table[h]-1
			}
			all[index].n++
			to[x/4] = index
		}
	}
	palette, of := reduced(all, near)
	if palette == nil {
		return nil
	}
	out := image.NewPaletted(image.Rectangle{Max: size}, palette)
	for i, p := range pixels {
		out.Pix[i] = of[p]
	}
	return out
}

// counted is a colour, red in the lowest byte, with how many pixels have it.
type counted struct {
	colour uint32
	n      int
}

// reduced gives no more than 256 of the colours, and for each of all which of them stands for it; nil where that is not possible.
func reduced(all []counted, near int) (palette color.Palette, of []uint8) {
	of = make([]uint8, len(all))
	order := make([]int, len(all))
	for i := range order {
		order[i] = i
	}
	exact := 256
	if len(all) > 256 {
		exact = mostExact
		slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(all[b].n, all[a].n) })
	}
	var kept []uint32
	for rank, i := range order {
		c := all[i].colour
		at := -1
		if rank >= exact {
			at = slices.IndexFunc(kept, func(k uint32) bool { return within(c, k, near) })
		}
		if at < 0 {
			if len(kept) == 256 {
				return nil, nil
			}
			at = len(kept)
			kept = append(kept, c)
			palette = append(palette, color.RGBA{byte(c), byte(c >> 8), byte(c >> 16), 0xff})
		}
		of[i] = uint8(at)
	}
	return palette, of
}

// within reports whether two colours differ by no more than near in each channel.
func within(a, b uint32, near int) bool {
	for shift := 0; shift < 24; shift += 8 {
		d := int(a>>shift&0xff) - int(b>>shift&0xff)
		if d > near || d < -near {
			return false
		}
	}
	return true
}
