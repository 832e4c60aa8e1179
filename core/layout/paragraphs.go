package layout

// Paragraph is a run of lines that belong together.
type Paragraph struct {
	Lines []int
}

func (l *Page) makeParagraphs() {}
