// Command lexers writes the lexers of the chroma library that are data into one archive, core/intake/listing/lexers.zip. Importing the library's own package of
// lexers costs each start of the program 10 ms; the archive is read when the first text is.
package main

import (
	"archive/zip"
	"fmt"
	"os"
	"strings"

	"github.com/alecthomas/chroma/v2"
	"github.com/alecthomas/chroma/v2/lexers"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: lexers ARCHIVE")
		os.Exit(2)
	}
	if err := write(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// asData writes a lexer as XML. Go's holds one rule that can't be: the templates in its strings.
func asData(l chroma.Lexer) ([]byte, error) {
	r, ok := l.(*chroma.RegexLexer)
	if !ok {
		return nil, fmt.Errorf("%s is made of several", l.Config().Name)
	}
	if r.Config().Name == "Go" {
		rules, err := r.Rules()
		if err != nil {
			return nil, err
		}
		rules = rules.Clone()
		for i, rule := range rules["root"] {
			if rule.Pattern == "(`)([^`]*)(`)" {
				rules["root"][i] = chroma.Rule{Pattern: "`[^`]*`", Type: chroma.LiteralString}
			}
		}
		if r, err = chroma.NewLexer(r.Config(), func() chroma.Rules { return rules }); err != nil {
			return nil, err
		}
	}
	return chroma.Marshal(r)
}

func write(path string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	z := zip.NewWriter(f)
	var left []string
	for _, l := range lexers.GlobalLexerRegistry.Lexers {
		config := l.Config()
		data, err := asData(l)
		if err != nil { // made of two, or by code: files of this name are known still, without colours
			plain, perr := chroma.NewLexer(config, lexers.PlaintextRules)
			if perr != nil {
				return perr
			}
			left = append(left, config.Name)
			if data, err = chroma.Marshal(plain); err != nil {
				return err
			}
		}
		w, err := z.Create(strings.ReplaceAll(strings.ToLower(config.Name), "/", "-") + ".xml")
		if err == nil {
			_, err = w.Write(data)
		}
		if err != nil {
			return err
		}
	}
	fmt.Println("without colours:", strings.Join(left, ", "))
	return z.Close()
}
