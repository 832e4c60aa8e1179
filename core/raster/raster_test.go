package raster

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/child"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

func TestMain(m *testing.M) {
	child.Main()
	os.Exit(m.Run())
}

// square is a page of 200 x 100 pt with a red square of 50 pt in its lower left corner.
func square() []byte {
	var b bytes.Buffer
	var offs []int
	add := func(s string) {
		offs = append(offs, b.Len())
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", len(offs), s)
	}
	b.WriteString("%PDF-1.4\n")
	add("<</Type/Catalog/Pages 2 0 R>>")
	add("<</Type/Pages/Kids[3 0 R]/Count 1>>")
	add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 200 100]/Contents 4 0 R/Resources<<>>>>")
	content := "1 0 0 rg 0 0 50 50 re f"
	add(fmt.Sprintf("<</Length %d>>stream\n%s\nendstream", len(content), content))
	at := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(offs)+1)
	for _, o := range offs {
		fmt.Fprintf(&b, "%010d 00000 n \n", o)
	}
	fmt.Fprintf(&b, "trailer<</Size %d/Root 1 0 R>>\nstartxref\n%d\n%%%%EOF\n", len(offs)+1, at)
	return b.Bytes()
}

func testPool(t *testing.T) *Pool {
	p, err := NewPool(CacheForTests(), 1)
	require.NoError(t, err)
	t.Cleanup(p.Close)
	return p
}

func TestRender(t *testing.T) {
	p := testPool(t)
	doc := square()
	src := Source{Key: "square", Parts: []Part{{Data: doc[:100]}, {Data: doc[100:]}}}

	pic, err := p.Render(context.Background(), Request{Source: src, Scale: 2, Format: PNG})
	require.NoError(t, err)
	require.Equal(t, [2]int{400, 200}, [2]int{pic.Width, pic.Height})
	img, err := png.Decode(bytes.NewReader(pic.Data))
	require.NoError(t, err)
	at := func(x, y int) [3]uint32 { r, g, b, _ := img.At(x, y).RGBA(); return [3]uint32{r >> 8, g >> 8, b >> 8} }
	require.Equal(t, [3]uint32{255, 0, 0}, at(50, 150))
	require.Equal(t, [3]uint32{255, 255, 255}, at(150, 50))

	// A region holds the same pixels as the whole page has there.
	region, err := p.Render(context.Background(), Request{Source: src, Scale: 2, Region: image.Rect(80, 80, 120, 120), Format: Raw})
	require.NoError(t, err)
	require.Equal(t, [2]int{40, 40}, [2]int{region.Width, region.Height})
	require.Equal(t, []byte{255, 255, 255, 255}, region.Data[:4])
	require.Equal(t, []byte{255, 0, 0, 255}, region.Data[(30*40+5)*4:][:4])

	_, err = p.Render(context.Background(), Request{Source: src, Page: 7, Scale: 1})
	require.ErrorIs(t, err, ErrPage)
	_, err = p.Render(context.Background(), Request{Source: Source{Key: "x", Parts: []Part{{Data: []byte("no pdf")}}}, Scale: 1})
	require.ErrorIs(t, err, ErrPage)
}

func TestOverrun(t *testing.T) {
	p := testPool(t)
	src := Source{Key: "square", Parts: []Part{{Data: square()}}}
	_, err := p.Render(context.Background(), Request{Source: src, Scale: 1})
	require.NoError(t, err)

	p.limit = time.Nanosecond
	_, err = p.Render(context.Background(), Request{Source: src, Scale: 1})
	require.ErrorIs(t, err, ErrTime)
	p.limit = pdf.MaxDrawing
	// The page is not tried again for a while.
	start := time.Now()
	_, err = p.Render(context.Background(), Request{Source: src, Scale: 2})
	require.ErrorIs(t, err, ErrTime)
	require.Less(t, time.Since(start), 50*time.Millisecond)
	// The child was killed; another takes its place.
	src.Key = "another square"
	_, err = p.Render(context.Background(), Request{Source: src, Scale: 1})
	require.NoError(t, err)

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = p.Render(ctx, Request{Source: src, Scale: 1})
	require.ErrorIs(t, err, context.Canceled)
}

// children gives the numbers of the processes that this one started.
func children(t *testing.T) (pids []int) {
	t.Helper()
	list, err := filepath.Glob("/proc/[0-9]*/stat")
	require.NoError(t, err)
	for _, path := range list {
		b, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		f := strings.Fields(string(b[bytes.LastIndexByte(b, ')')+1:]))
		if len(f) > 1 && f[1] == strconv.Itoa(os.Getpid()) {
			pid, err := strconv.Atoi(filepath.Base(filepath.Dir(path)))
			require.NoError(t, err)
			pids = append(pids, pid)
		}
	}
	return pids
}

// A child that is killed, or stopped, costs whoever waits some time and nothing else.
func TestChildrenThatEnd(t *testing.T) {
	p := testPool(t)
	src := Source{Key: "square", Parts: []Part{{Data: square()}}}
	render := func() {
		_, err := p.Render(t.Context(), Request{Source: src, Scale: 1})
		require.NoError(t, err)
	}
	render()
	for _, signal := range []syscall.Signal{syscall.SIGKILL, syscall.SIGSTOP, syscall.SIGABRT} {
		pids := children(t)
		require.NotEmpty(t, pids)
		for _, pid := range pids {
			require.NoError(t, syscall.Kill(pid, signal))
		}
		render()
	}
	require.Len(t, children(t), 1)
}

// Each drawer draws its own document, also where it takes the place in memory of one that is gone.
func TestDrawersTellDocumentsApart(t *testing.T) {
	p := testPool(t)
	folder := t.TempDir()
	for i := range 40 {
		colour := []byte("1 0 0 rg")
		if i%2 == 1 {
			colour = []byte("0 0 1 rg")
		}
		file := bytes.Replace(square(), []byte("1 0 0 rg"), colour, 1)
		doc, err := pdf.Open(bytes.NewReader(file), int64(len(file)))
		require.NoError(t, err)
		d := NewDrawer("test", folder, func() (*Pool, error) { return p, nil })
		img, err := d.Draw(t.Context(), doc, 0, 72)
		require.NoError(t, err)
		r, _, b, _ := img.At(10, 90).RGBA()
		assert.Equal(t, i%2 == 1, b > r, "drawing %d", i)
		d.Close()
		d = nil
		runtime.GC()
	}
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// Children that are renewed end, though nobody asks for a page; the next page is drawn by others, who know nothing of what these were given.
func TestRenew(t *testing.T) {
	p := testPool(t)
	src := Source{Key: "square", Parts: []Part{{Data: square()}}}
	_, err := p.Render(t.Context(), Request{Source: src, Scale: 1})
	require.NoError(t, err)
	before := children(t)
	require.Len(t, before, 1)
	for range 3 {
		p.Renew()
		require.Eventually(t, func() bool { now := children(t); return len(now) == 1 && now[0] != before[0] }, 20*time.Second, 10*time.Millisecond)
		before = children(t)
		_, err = p.Render(t.Context(), Request{Source: Source{Key: "square", Parts: []Part{{Data: []byte("no PDF")}}}, Scale: 1})
		require.Error(t, err, "what stood under this name before is not known")
		_, err = p.Render(t.Context(), Request{Source: Source{Key: "again", Parts: src.Parts}, Scale: 1})
		require.NoError(t, err)
	}
}

// A page that takes more memory than a child may have ends in a sentence; the next page is drawn.
func TestMuchMemory(t *testing.T) {
	p := testPool(t)
	src := Source{Key: "square", Parts: []Part{{Data: square()}}}
	_, err := p.Render(t.Context(), Request{Source: src, Scale: 1})
	require.NoError(t, err)
	p.memory.Store(1 << 20) // of the children that are started from now on
	for _, pid := range children(t) {
		require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	}
	// The picture takes longer to draw than the watch needs to look.
	_, err = p.Render(t.Context(), Request{Source: src, Scale: 35, Format: PNG})
	require.ErrorIs(t, err, ErrMemory)
	p.memory.Store(memory)
	n := 0
	require.Eventually(t, func() bool { // the other child may have been started with the small limit too, and a page that stopped a child is remembered
		n++
		src.Key = fmt.Sprint("again ", n)
		_, err := p.Render(t.Context(), Request{Source: src, Scale: 1})
		return err == nil
	}, time.Minute, 10*time.Millisecond)
}

// Those who wait take turns, however many pictures one of them asked for.
func TestTurns(t *testing.T) {
	q := newQueue()
	put := func(who string, n int) {
		for i := range n {
			q.put(&job{ctx: child.For(t.Context(), who), req: Request{Page: i}})
		}
	}
	put("isla", 5)
	put("tam", 2)
	put("rona", 1)
	var got []string
	for range 8 {
		<-q.ready
		j := q.next()
		got = append(got, fmt.Sprint(child.Whose(j.ctx), j.req.Page))
		if len(got) == 4 {
			put("rona", 1)
			<-q.ready
			j := q.next()
			got = append(got, fmt.Sprint(child.Whose(j.ctx), j.req.Page))
		}
	}
	require.Equal(t, []string{"isla0", "tam0", "rona0", "isla1", "tam1", "isla2", "rona0", "isla3", "isla4"}, got)
}

// PDFium's count of pages, and a document as it saves it, for files that our reader does not understand.
func TestCountAndSave(t *testing.T) {
	p := testPool(t)
	of := func(key string, data []byte) Source { return Source{Key: key, Parts: []Part{{Data: data}}} }
	text := pdftest.Text(7)
	pic, err := p.Render(t.Context(), Request{Count: true, Source: of("text", text)})
	require.NoError(t, err)
	assert.Equal(t, 7, pic.Pages)
	pic, err = p.Render(t.Context(), Request{Save: true, Source: of("cut", text[:bytes.LastIndex(text, []byte("startxref"))])})
	require.NoError(t, err)
	pdftest.Check(t, pic.Data)
	assert.Equal(t, "Page 7", pdftest.PageTexts(t, pic.Data)[6])
	for _, r := range []Request{{Count: true}, {Save: true}, {Width: 9, Height: 9}} {
		r.Source = of("nothing", []byte("%PDF-1.7\nnothing"))
		_, err = p.Render(t.Context(), r)
		assert.ErrorIs(t, err, ErrPage)
	}
}

// A picture of few colours is packed with a palette and stays the same to the pixel; one of more, or see-through, is packed as it is.
func TestFewColours(t *testing.T) {
	img := image.NewRGBA(image.Rect(0, 0, 64, 40))
	for i := 0; i < len(img.Pix); i += 4 {
		copy(img.Pix[i:], []byte{byte(i / 4 % 250), 7, byte(i / 4 % 5), 255})
	}
	few := fewColours(img, 0)
	require.NotNil(t, few)
	for y := range 40 {
		for x := range 64 {
			require.Equal(t, img.RGBAAt(x, y), color.RGBAModel.Convert(few.At(x, y)))
		}
	}
	img.Pix[3] = 254
	assert.Nil(t, fewColours(img, 0))
	img.Pix[3] = 255
	for i := 0; i < len(img.Pix); i += 4 {
		copy(img.Pix[i:], []byte{byte(i / 4), byte(i / 1024), 1, 255})
	}
	assert.Nil(t, fewColours(img, 0), "over 256 colours")
	assert.Nil(t, fewColours(img, alike), "nor near ones")

	// Letters in two colours over wide tints: the tints stay as they are, and no edge differs by more than one can see.
	edges := []color.RGBA{{0, 0, 0, 255}, {38, 70, 90, 255}, {160, 20, 30, 255}}
	for i := 0; i < len(img.Pix); i += 4 {
		p := i / 4
		c := color.RGBA{250, 250, byte(250 + p%2), 255}
		if p%3 == 0 { // an edge between white and a colour
			e, k := edges[p/3%3], p/9%256
			c = color.RGBA{byte((int(e.R)*k + 255*(255-k)) / 255), byte((int(e.G)*k + 255*(255-k)) / 255), byte((int(e.B)*k + 255*(255-k)) / 255), 255}
		}
		img.SetRGBA(p%64, p/64, c)
	}
	assert.Nil(t, fewColours(img, 0))
	few = fewColours(img, alike)
	require.NotNil(t, few)
	worst := 0
	for y := range 40 {
		for x := range 64 {
			a, b := img.RGBAAt(x, y), color.RGBAModel.Convert(few.At(x, y)).(color.RGBA)
			for _, d := range []int{int(a.R) - int(b.R), int(a.G) - int(b.G), int(a.B) - int(b.B)} {
				worst = max(worst, d, -d)
			}
			if a.R == 250 {
				require.Equal(t, a, b, "a tint")
			}
		}
	}
	assert.InDelta(t, alike, worst, alike-1)
	for _, f := range []Format{PNG, Auto} {
		p, err := encode(image.NewRGBA(image.Rect(0, 0, 9, 9)), f)
		require.NoError(t, err)
		assert.Equal(t, "image/png", p.Type)
	}
}
