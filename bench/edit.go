package main

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"

	"glenrain/core/edit"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// edited measures replacing words throughout, editing one paragraph, and the time from a key to the picture of what was typed.
func edited(ctx context.Context, dir, byelaws string, docs map[int]*pdf.Document) error {
	fmt.Print("## Edit\n\n| what | ours | reference | its figure | ratio |\n|---|---:|---|---:|---:|\n")
	if err := replaced(ctx, byelaws); err != nil {
		return err
	}
	fmt.Print("\nOne paragraph edited, from the step to its update, ms (median of 9).\n\n| pages | ms | bytes | the page's own content, bytes |\n|---:|---:|---:|---:|\n")
	for _, n := range sizes {
		doc := docs[n]
		pages, err := doc.Pages()
		if err != nil {
			return err
		}
		keys := step.NewKeys(pages)
		var took []time.Duration
		size := 0
		for range 9 {
			start := time.Now()
			_, res, err := step.NewRegistry(nil, edit.Kinds()...).Run(ctx, doc, &edit.Paragraph{Page: step.Pages{Rule: "5"}, At: 2, Edits: []edit.Edit{{Text: "Late "}}}, &step.Env{Keys: keys, Step: 1})
			if err != nil {
				return err
			}
			took, size = append(took, time.Since(start)), len(res.Update)
		}
		own := 0 // as it is stored
		list := doc.Array(doc.Dict(pages[4].Ref).Get("Contents"))
		if list == nil {
			list = pdf.Array{doc.Dict(pages[4].Ref).Get("Contents")}
		}
		for _, o := range list {
			if st := doc.Stream(o); st != nil {
				raw, err := st.Raw()
				if err != nil {
					return err
				}
				own += len(raw)
			}
		}
		fmt.Printf("| %d | %.1f | %d | %d |\n", n, ms(median(took)), size, own)
	}
	return keysToPicture(ctx, dir, docs)
}

// replaced replaces some 2,000 words in 1,200 pages.
func replaced(ctx context.Context, byelaws string) error {
	doc, err := openCopy(byelaws)
	if err != nil {
		return err
	}
	pages, err := doc.Pages()
	if err != nil {
		return err
	}
	start := time.Now()
	_, res, err := step.NewRegistry(nil, edit.Kinds()...).Run(ctx, doc, &edit.ReplaceText{Pages: step.Pages{Rule: "all"}, Pairs: []edit.Pair{{Find: "cranes", With: "gantry cranes"}}, Whole: true, Case: true}, &step.Env{Keys: step.NewKeys(pages), Step: 1})
	if err != nil {
		return err
	}
	took := time.Since(start)
	ref, err := measure("pdftotext", byelaws, "/dev/null")
	if err != nil {
		return err
	}
	_, what, _ := strings.Cut(res.Sentence, " in ")
	fmt.Printf("| a word replaced in %s, of %d, ms | %.0f | pdftotext reading the whole file | %.0f | %.2f |\n", what, len(pages), ms(took), ms(ref.Wall), float64(took)/float64(ref.Wall))
	return nil
}

// keysToPicture types into a paragraph in the real browser.
func keysToPicture(ctx context.Context, dir string, docs map[int]*pdf.Document) error {
	d, page, stop, err := inBrowser(filepath.Join(dir, "keys"))
	if err != nil {
		return err
	}
	defer stop()
	fmt.Print("\nFrom a key to the picture of what it does, drawn by the engine and decoded by Chromium, 1280 x 800, the page as wide as the window; 60 letters typed one after the other, ms.\n\n| pages | median | longest |\n|---:|---:|---:|\n")
	return rod.Try(func() {
		base := page.MustEval(`() => location.origin`).Str()
		for _, n := range []int{10, 1000, 5000} {
			row, err := stock(ctx, d, filepath.Join(dir, fmt.Sprintf("keys-%d.pdf", n)), docs[n])
			if err != nil {
				panic(err)
			}
			page.MustNavigate(fmt.Sprintf("%s/desk/%d/edit?page=0.5", base, row.ID))
			page.MustWait(`() => document.querySelector("#paper")?.dataset.blocks === "0.5"`)
			page.MustElement("#view").MustFocus()
			for range 3 {
				page.Keyboard.MustType('.')
			}
			page.Keyboard.MustType(input.Enter)
			page.MustWait(`() => document.activeElement?.className === "edit-field"`)
			var took []time.Duration
			longest := 0.0
			for i := range 70 {
				page.MustEval(`() => { document.querySelector("#paper").dataset.took = ""; }`)
				page.Keyboard.MustType(input.Key('a' + rune(i%5)))
				page.MustWait(`() => document.querySelector("#paper").dataset.took !== ""`)
				v, err := strconv.ParseFloat(page.MustEval(`() => document.querySelector("#paper").dataset.took`).Str(), 64)
				if err != nil {
					panic(err)
				}
				if i >= 10 { // the renderer has seen the document by then
					took, longest = append(took, time.Duration(v*1e6)), max(longest, v)
				}
			}
			page.Keyboard.MustType(input.Escape)
			fmt.Printf("| %d | %.0f | %.0f |\n", n, ms(median(took)), longest)
		}
		fmt.Println()
	})
}
