package main

import (
	"bytes"
	"encoding/json"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/child"
	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
)

// The test binary is the program itself when it is started with this variable.
const asProgram = "GLENRAIN_TEST_AS_PROGRAM"

func TestMain(m *testing.M) {
	child.Main()
	if os.Getenv(asProgram) != "" {
		limitMemory()
		os.Exit(run(os.Args[1:]))
	}
	os.Exit(m.Run())
}

func glenrain(t *testing.T, in string, args ...string) (code int, stdout, stderr string) {
	t.Helper()
	cmd := exec.Command(os.Args[0], args...)
	cmd.Env = append(os.Environ(), asProgram+"=1", "XDG_CACHE_HOME="+filepath.Join(os.TempDir(), "glenrain-test-cache"))
	cmd.Stdin = strings.NewReader(in)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if _, ok := err.(*exec.ExitError); err != nil && !ok {
		require.NoError(t, err)
	}
	return cmd.ProcessState.ExitCode(), out.String(), errs.String()
}

func write(t *testing.T, name string, data []byte) string {
	t.Helper()
	p := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(p, data, 0o600))
	return p
}

func TestInfo(t *testing.T) {
	code, out, _ := glenrain(t, "", "info", write(t, "a.pdf", pdftest.Text(4)), "--json")
	require.Zero(t, code)
	var v map[string]any
	require.NoError(t, json.Unmarshal([]byte(out), &v))
	assert.InDelta(t, 4, v["pages"], 0)
	assert.Equal(t, "1.4", v["version"])
	assert.Equal(t, false, v["encrypted"])
	assert.Equal(t, false, v["tagged"])
	assert.Equal(t, false, v["repaired"])
	assert.Len(t, v["sizes"], 3)
}

func TestRun(t *testing.T) {
	in := write(t, "a.pdf", pdftest.Text(4))
	other := write(t, "b.pdf", pdftest.Text(2))
	out := filepath.Join(t.TempDir(), "o.pdf")
	steps, err := json.Marshal(map[string]any{"steps": []any{
		map[string]any{"name": "remove", "params": map[string]any{"pages": "2"}},
		map[string]any{"name": "insert", "params": map[string]any{"from": "path:" + other, "pages": "last", "to": 1}},
		map[string]any{"name": "number", "params": map[string]any{"pages": "last"}},
	}})
	require.NoError(t, err)
	code, said, errs := glenrain(t, string(steps), "run", "-", in, "-o", out)
	require.Zero(t, code, errs)
	assert.Contains(t, said, "Page 2 removed.")
	file, err := os.ReadFile(out)
	require.NoError(t, err)
	pdftest.Check(t, file)
	assert.Equal(t, []string{"Page 2", "Page 1", "Page 3", "Page 4 1"}, pdftest.PageTexts(t, file))
	code, _, _ = glenrain(t, `{"steps":[]}`, "run", "-", in, "-o", out)
	require.Zero(t, code)
	file, err = os.ReadFile(out)
	require.NoError(t, err)
	assert.Len(t, pdftest.PageTexts(t, file), 4)
}

func TestDamaged(t *testing.T) {
	whole := pdftest.Text(4)
	cut := write(t, "cut.pdf", whole[:bytes.LastIndex(whole, []byte("\nxref\n"))])
	code, said, errs := glenrain(t, "", "info", cut, "--json")
	require.Zero(t, code, errs)
	assert.Contains(t, said, `"repaired": true`)
	out := filepath.Join(t.TempDir(), "o.pdf")
	code, said, errs = glenrain(t, `{"steps":[{"name":"remove","params":{"pages":"2"}}]}`, "run", "-", cut, "-o", out)
	require.Zero(t, code, errs)
	assert.Contains(t, said, "damaged and has been repaired")
	file, err := os.ReadFile(out)
	require.NoError(t, err)
	pdftest.Check(t, file)
	assert.Equal(t, []string{"Page 1", "Page 3", "Page 4"}, pdftest.PageTexts(t, file))
}

func TestLocked(t *testing.T) {
	locked := filepath.Join(t.TempDir(), "locked.pdf")
	require.NoError(t, exec.Command("qpdf", "--encrypt", "ebb", "flow", "256", "--", write(t, "a.pdf", pdftest.Text(3)), locked).Run())
	out := filepath.Join(t.TempDir(), "o.pdf")
	code, said, errs := glenrain(t, "", "info", locked, "--password", "ebb", "--json")
	require.Zero(t, code, errs)
	assert.Contains(t, said, `"encrypted": true`)
	for _, pw := range []string{"ebb", "flow"} {
		code, said, errs = glenrain(t, `{"steps":[{"name":"rotate","params":{"pages":"1","by":90}}]}`, "run", "-", locked, "-o", out, "--password", pw)
		require.Zero(t, code, errs)
		assert.Contains(t, said, "the result is not")
		file, err := os.ReadFile(out)
		require.NoError(t, err)
		pdftest.Check(t, file)
		assert.Equal(t, []string{"Page 1", "Page 2", "Page 3"}, pdftest.PageTexts(t, file))
	}
	code, _, _ = glenrain(t, "", "info", locked, "--password", "wrong")
	assert.Equal(t, exitPassword, code)
}

func TestCombineAndRender(t *testing.T) {
	dir := t.TempDir()
	var paths []string
	files, err := demo.Files()
	require.NoError(t, err)
	for _, f := range files {
		if strings.HasSuffix(f.Name, "mark.png") || strings.HasPrefix(f.Name, "Letter") || strings.HasPrefix(f.Name, "Ladder") {
			p := filepath.Join(dir, f.Name)
			require.NoError(t, os.WriteFile(p, f.Data, 0o600))
			paths = append(paths, p)
		}
	}
	out := filepath.Join(dir, "all.pdf")
	code, _, errs := glenrain(t, "", append(append([]string{"combine"}, paths...), "-o", out)...)
	require.Zero(t, code, errs)
	file, err := os.ReadFile(out)
	require.NoError(t, err)
	pdftest.Check(t, file)
	assert.Contains(t, pdftest.Tool(t, file, "pdfinfo", "FILE"), "Pages:           4")
	pic := filepath.Join(dir, "p.png")
	code, _, errs = glenrain(t, "", "render", out, "--page", "2", "--dpi", "72", "-o", pic)
	require.Zero(t, code, errs)
	f, err := os.Open(pic)
	require.NoError(t, err)
	defer f.Close()
	img, err := png.Decode(f)
	require.NoError(t, err)
	// The photograph is 1950 x 1300 pixels as stored, at 240 dpi, and stands upright.
	assert.Equal(t, [2]int{390, 585}, [2]int{img.Bounds().Dx(), img.Bounds().Dy()})
}

func TestExitCodes(t *testing.T) {
	good := write(t, "a.pdf", pdftest.Text(2))
	locked := filepath.Join(t.TempDir(), "locked.pdf")
	require.NoError(t, exec.Command("qpdf", "--encrypt", "u", "o", "256", "--", good, locked).Run())
	out := filepath.Join(t.TempDir(), "o.pdf")
	for _, c := range []struct {
		in   string
		args []string
		code int
	}{
		{"", []string{"info", good}, 0},
		{"", []string{"fly"}, 2},
		{"", []string{"info"}, 2},
		{`{"steps":[{"name":"fly"}]}`, []string{"run", "-", good, "-o", out}, 2},
		{`{"steps":[{"name":"rotate","params":{"pages":"1","by":90,"x":1}}]}`, []string{"run", "-", good, "-o", out}, 2},
		{`{"steps":[{"name":"rotate","params":{"pages":"9","by":90}}]}`, []string{"run", "-", good, "-o", out}, 2},
		{`not json`, []string{"run", "-", good, "-o", out}, 2},
		{"", []string{"render", good, "--page", "3", "-o", out}, 2},
		{"", []string{"serve", "--data", t.TempDir(), "--addr", "0.0.0.0:0"}, 2},
		{"", []string{"info", locked}, 3},
		{"", []string{"info", write(t, "t.pdf", []byte("only text"))}, 4},
		{"", []string{"info", write(t, "certificates.pdf", bytes.Replace(pdftest.Text(2), []byte("trailer\n<<"), []byte("trailer\n<</Encrypt<</Filter/Example.PubSec/SubFilter/adbe.pkcs7.s5/V 4>>"), 1))}, 4},
		{"", []string{"info", filepath.Join(t.TempDir(), "none.pdf")}, 4},
		{"", []string{"combine", good, write(t, "t.pdf", []byte("only text")), "-o", out}, 4},
		{`{"steps":[]}`, []string{"run", "-", write(t, "cut.pdf", []byte("%PDF-1.7\n1 0 obj\n<<")), "-o", out}, 4},
	} {
		code, _, errs := glenrain(t, c.in, c.args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, errs)
		if c.code != 0 {
			assert.Equal(t, 1, strings.Count(errs, "\n"), "one sentence: %q", errs)
			assert.NoFileExists(t, out)
		}
	}
}

func TestSteps(t *testing.T) {
	code, out, _ := glenrain(t, "", "steps", "--json")
	require.Zero(t, code)
	var v struct {
		Steps []struct {
			Name   string `json:"name"`
			Params []struct {
				Name, Type, Meaning string
			} `json:"params"`
		} `json:"steps"`
	}
	require.NoError(t, json.NewDecoder(strings.NewReader(out)).Decode(&v))
	require.NotEmpty(t, v.Steps)
	for _, s := range v.Steps {
		for _, p := range s.Params {
			assert.NotEmpty(t, p.Type, s.Name)
			assert.NotEmpty(t, p.Meaning, s.Name+" "+p.Name)
		}
	}
}

// Several passwords may be given: each is tried on each locked file, and pages of locked and damaged files are drawn.
func TestPasswords(t *testing.T) {
	lock := func(name, password string, r string) string {
		out := filepath.Join(t.TempDir(), name)
		args := []string{"--encrypt", password, "owner", r, "--"}
		if r != "256" {
			args = []string{"--allow-weak-crypto", "--encrypt", password, "owner", r, "--"}
		}
		require.NoError(t, exec.Command("qpdf", append(args, write(t, "a.pdf", pdftest.Text(2)), out)...).Run())
		return out
	}
	one, two, open := lock("one.pdf", "ebb", "256"), lock("two.pdf", "flow", "40"), write(t, "open.pdf", pdftest.Text(1))
	out := filepath.Join(t.TempDir(), "o.pdf")
	code, _, errs := glenrain(t, "", "combine", one, open, two, "-o", out, "--password", "flow", "--password", "ebb")
	require.Zero(t, code, errs)
	file, err := os.ReadFile(out)
	require.NoError(t, err)
	pdftest.Check(t, file)
	assert.Equal(t, []string{"Page 1", "Page 2", "Page 1", "Page 1", "Page 2"}, pdftest.PageTexts(t, file))
	code, _, errs = glenrain(t, "", "combine", one, two, "-o", out, "--password", "ebb")
	assert.Equal(t, exitPassword, code)
	assert.Contains(t, errs, "two")
	steps := `{"steps":[{"name":"insert","params":{"from":"path:` + two + `","to":"end"}}]}`
	code, _, errs = glenrain(t, steps, "run", "-", one, "-o", out, "--password", "ebb", "--password", "flow")
	require.Zero(t, code, errs)

	picture := func(args ...string) []byte {
		out := filepath.Join(t.TempDir(), "o.png")
		code, _, errs := glenrain(t, "", append(append([]string{"render"}, args...), "-o", out)...)
		require.Zero(t, code, errs)
		b, err := os.ReadFile(out)
		require.NoError(t, err)
		return b
	}
	want := picture(write(t, "plain.pdf", pdftest.Text(2)))
	assert.Equal(t, want, picture(one, "--password", "ebb"))
	assert.Equal(t, want, picture(two, "--password", "flow"))
	whole := pdftest.Text(2)
	assert.Equal(t, want, picture(write(t, "cut.pdf", whole[:bytes.LastIndex(whole, []byte("\nxref\n"))])))
	code, _, _ = glenrain(t, "", "render", one, "-o", out)
	assert.Equal(t, exitPassword, code)
}

// A signed file is not changed before it was said what becomes of the signature.
func TestSignedFile(t *testing.T) {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/AcroForm<</SigFlags 3/Fields[5 0 R]>>>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 100 100]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Annots[5 0 R]>>")
	f.Add("<</Type/Sig/Filter/Standard/Name(Harbour master)>>")
	f.Add("<</Type/Annot/Subtype/Widget/FT/Sig/T(master)/V 4 0 R/Rect[0 0 9 9]>>")
	data := f.Bytes()
	in, out := write(t, "signed.pdf", data), filepath.Join(t.TempDir(), "o.pdf")
	steps := `{"steps":[{"name":"rotate","params":{"pages":"1","by":90}}]}`
	code, _, errs := glenrain(t, steps, "run", "-", in, "-o", out)
	assert.Equal(t, exitUse, code)
	assert.Contains(t, errs, "--signature")
	assert.NoFileExists(t, out)
	code, _, errs = glenrain(t, steps, "run", "-", in, "-o", out, "--signature", "keep")
	require.Zero(t, code, errs)
	file, err := os.ReadFile(out)
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(file, data), "the changes stand behind what was signed")
	pdftest.Check(t, file)
	code, said, errs := glenrain(t, steps, "run", "-", in, "-o", out, "--signature", "remove")
	require.Zero(t, code, errs)
	assert.Contains(t, said, "The signature was removed.")
	file, err = os.ReadFile(out)
	require.NoError(t, err)
	assert.NotContains(t, string(pdftest.Tool(t, file, "qpdf", "--qdf", "FILE", "-")), "Harbour master")
	code, _, errs = glenrain(t, "", "run", "-", in, "-o", out, "--signature", "perhaps")
	assert.Equal(t, exitUse, code, errs)
	code, said, errs = glenrain(t, "", "combine", in, in, "-o", out)
	require.Zero(t, code, errs)
	assert.Contains(t, said, "signature")
}

// Usage rights end with any change: the file goes out without them, and it is said.
func TestUsageRights(t *testing.T) {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/Perms<</UR3 4 0 R>>>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 100 100]>>")
	f.Add("<</Type/Page/Parent 2 0 R>>")
	f.Add("<</Type/Sig/Filter/Standard/Name(Harbour master)>>")
	out := filepath.Join(t.TempDir(), "o.pdf")
	code, said, errs := glenrain(t, `{"steps":[{"name":"rotate","params":{"pages":"1","by":90}}]}`, "run", "-", write(t, "rights.pdf", f.Bytes()), "-o", out)
	require.Zero(t, code, errs)
	assert.Contains(t, said, "usage rights")
	file, err := os.ReadFile(out)
	require.NoError(t, err)
	pdftest.Check(t, file)
	plain := pdftest.Tool(t, file, "qpdf", "--qdf", "FILE", "-")
	assert.NotContains(t, plain, "Perms")
	assert.NotContains(t, plain, "Harbour master")
}

// What takes longer than it may ends in a sentence, and leaves nothing: neither beside the file that was to be written nor in the temporary folder.
func TestTimeOfCommands(t *testing.T) {
	var steps []string
	for range 16 {
		steps = append(steps, `{"name":"duplicate","params":{"pages":"all","where":"together","to":"end"}}`)
	}
	list := write(t, "steps.json", []byte(`{"steps":[`+strings.Join(steps, ",")+`]}`))
	in, temp, dir := write(t, "in.pdf", pdftest.Text(40)), t.TempDir(), t.TempDir()
	t.Setenv("TMPDIR", temp)
	start := time.Now()
	code, _, errs := glenrain(t, "", "run", list, in, "-o", filepath.Join(dir, "out.pdf"), "--time", "1s")
	assert.Less(t, time.Since(start), 20*time.Second)
	assert.Equal(t, exitFailed, code)
	assert.Equal(t, "glenrain: run took longer than 1s and was stopped; nothing was written (--time gives it longer)\n", errs)
	for _, d := range []string{temp, dir} {
		left, err := os.ReadDir(d)
		require.NoError(t, err)
		assert.Empty(t, slices.DeleteFunc(left, func(e os.DirEntry) bool { return e.Name() == "glenrain-test-cache" }), d)
	}
	code, out, errs := glenrain(t, "", "info", in, "--time", "0")
	assert.Zero(t, code, errs)
	assert.Contains(t, out, "40 pages")
}
