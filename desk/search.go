package desk

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"gorm.io/gorm"

	"glenrain/core/layout"
	"glenrain/core/step"
)

// searchTables makes the full-text index of all pages' texts, which triggers hold in step with their table. It has two columns: text is
// cut into words; spaced has the letters of scripts that are written without spaces, each as a word of its own, so that any run
// of them is found as a phrase, and what touches them.
func searchTables(tx *gorm.DB) error {
	var rows []PageText
	for last := uint(0); ; last = rows[len(rows)-1].ID {
		rows = nil
		if err := tx.Where("id > ?", last).Order("id").Limit(500).Find(&rows).Error; err != nil {
			return err
		}
		if len(rows) == 0 {
			break
		}
		for _, r := range rows {
			if s := spaced(r.Text); s != "" {
				if err := tx.Exec("UPDATE page_texts SET spaced = ? WHERE id = ?", s, r.ID).Error; err != nil {
					return err
				}
			}
		}
	}
	for _, sql := range []string{
		"DROP TRIGGER IF EXISTS page_texts_new", "DROP TRIGGER IF EXISTS page_texts_gone", "DROP TRIGGER IF EXISTS page_texts_changed",
		"DROP TABLE IF EXISTS page_search",
		"UPDATE page_texts SET spaced = '' WHERE spaced IS NULL",
		"CREATE INDEX IF NOT EXISTS page_texts_unread ON page_texts(document_id) WHERE text = ''",
		`CREATE VIRTUAL TABLE page_search USING fts5(text, spaced, content='page_texts', content_rowid='id', tokenize="unicode61 remove_diacritics 2", prefix='2 3')`,
		`CREATE TRIGGER page_texts_new AFTER INSERT ON page_texts BEGIN
			INSERT INTO page_search(rowid, text, spaced) VALUES (new.id, new.text, new.spaced); END`,
		`CREATE TRIGGER page_texts_gone AFTER DELETE ON page_texts BEGIN
			INSERT INTO page_search(page_search, rowid, text, spaced) VALUES ('delete', old.id, old.text, old.spaced); END`,
		`CREATE TRIGGER page_texts_changed AFTER UPDATE OF text ON page_texts BEGIN
			INSERT INTO page_search(page_search, rowid, text, spaced) VALUES ('delete', old.id, old.text, old.spaced);
			INSERT INTO page_search(rowid, text, spaced) VALUES (new.id, new.text, new.spaced); END`,
		"INSERT INTO page_search(page_search) VALUES ('rebuild')",
	} {
		if err := tx.Exec(sql).Error; err != nil {
			return err
		}
	}
	return nil
}

// unspaced reports whether a character is of a script that is written without spaces, whose words an index of words can't know.
func unspaced(r rune) bool {
	return r > 0xdff && unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Thai, unicode.Lao, unicode.Khmer, unicode.Myanmar)
}

// parted stands between letters that do not follow each other; it is a letter that no text has and no search.
const parted = '\ue000'

// spaced gives the letters of a text that are of scripts without spaces, each as a word, and the words of other scripts that touch
// them, which the column of words has only as a part of a longer one.
func spaced(text string) string {
	var b strings.Builder
	apart, touches := false, false
	from := -1 // where a word of other scripts begins
	end := func(to int, keep bool) {
		if from < 0 {
			return
		}
		if keep {
			b.WriteString(text[from:to] + " ")
		}
		from, apart = -1, !keep
	}
	last := rune(0)
	for i, r := range text {
		switch {
		case unspaced(r):
			end(i, true)
			if apart && b.Len() > 0 {
				b.WriteString(string(parted) + " ")
			}
			apart = false
			b.WriteString(string(r) + " ")
		case isLetter(r):
			if from < 0 {
				from, touches = i, unspaced(last)
			}
		default:
			end(i, touches)
			apart = apart || r != ' ' // which a line's end is too
		}
		last = r
	}
	end(len(text), touches)
	return b.String()
}

// isLetter reports whether a character is a part of words, as the index has them.
func isLetter(r rune) bool { return unicode.In(r, unicode.L, unicode.N, unicode.M) }

// TextHit is a page that a search across documents found.
type TextHit struct {
	DocumentID uint
	Name       string
	Key        string
	Number     int
	Parts      []TextPart
}

// TextPart is a part of what stands around a hit.
type TextPart struct {
	Text string
	Hit  bool
}

// TextHits is what a search across documents gives.
type TextHits struct {
	Hits  []TextHit // the first of them
	Pages int       // how many there are, counted up to mostCounted
	More  bool      // there are more than that: the hits are of the pages that were read last
}

const (
	mostCounted = 1000 // pages that a search across documents counts
	mostRanked  = 300  // pages whose texts are looked at to put the best first
	mostAsked   = 2000 // characters of a search
)

// SearchText gives the pages of all documents whose text holds all the words, each as it begins, or the words in their order where
// they stand in quotation marks; the best first, no more than most. It reads no more of the index than it takes to count
// mostCounted pages.
func (d *Desk) SearchText(ctx context.Context, person uint, text string, most int) (*TextHits, error) {
	if utf8.RuneCountInString(text) > mostAsked {
		return nil, step.Refuse("the search text is longer than %s characters", step.Thousands(mostAsked))
	}
	in, args, err := d.Scoped(ctx, person, "d")
	if err != nil {
		return nil, err
	}
	q := readQuery(text)
	out := &TextHits{}
	if q.match == "" {
		return out, nil
	}
	db := d.db.WithContext(ctx)
	var ids []uint
	err = db.Raw(`SELECT p.id FROM page_search CROSS JOIN page_texts p ON p.id = page_search.rowid CROSS JOIN documents d ON d.id = p.document_id
		WHERE page_search MATCH ? AND d.away_at IS NULL AND `+in+` ORDER BY page_search.rowid DESC LIMIT ?`, append(append([]any{q.match}, args...), mostCounted+1)...).Scan(&ids).Error
	if err != nil {
		return nil, err
	}
	out.Pages = len(ids)
	if out.More = len(ids) > mostCounted; out.More {
		out.Pages = mostCounted
	}
	type row struct {
		DocumentID      uint
		Name, Key, Text string
		Number          int
		score           float64
	}
	var rows []row
	for part := range slices.Chunk(ids[:min(len(ids), max(most, mostRanked))], 100) {
		var some []row
		if err := db.Raw("SELECT p.document_id, d.name, p.key, p.number, p.text FROM page_texts p JOIN documents d ON d.id = p.document_id WHERE p.id IN ? ORDER BY p.id DESC", part).Scan(&some).Error; err != nil {
			return nil, err
		}
		rows = append(rows, some...)
	}
	for i := range rows {
		rows[i].score = q.score(rows[i].Text)
	}
	slices.SortStableFunc(rows, func(a, b row) int {
		return cmp.Or(cmp.Compare(b.score, a.score), cmp.Compare(b.DocumentID, a.DocumentID), cmp.Compare(a.Number, b.Number))
	})
	for _, r := range rows[:min(len(rows), most)] {
		out.Hits = append(out.Hits, TextHit{r.DocumentID, r.Name, r.Key, r.Number, q.around(r.Text)})
	}
	return out, nil
}

// textQuery is a search across documents, read.
type textQuery struct {
	match   string           // as FTS5 takes it
	finders []*layout.Finder // one for each word or phrase
}

// readQuery reads what was typed: words that begin so, or a phrase in quotation marks; runs of scripts without spaces as phrases.
func readQuery(text string) (q textQuery) {
	text = strings.TrimSpace(text)
	if utf8.RuneCountInString(text) > mostAsked {
		text = string([]rune(text)[:mostAsked])
	}
	phrase := len(text) > 2 && strings.HasPrefix(text, `"`) && strings.HasSuffix(text, `"`)
	var terms []string
	var plain []string // the words of a phrase
	add := func(term, word string) {
		if len(terms) >= 30 {
			return
		}
		terms = append(terms, term)
		if f, err := (layout.Query{Text: word}).Compile(); err == nil {
			q.finders = append(q.finders, f)
		}
	}
	for w := range strings.FieldsFuncSeq(text, func(r rune) bool { return !isLetter(r) }) {
		for w != "" {
			n := strings.IndexFunc(w, func(r rune) bool { return unspaced(r) != unspaced(firstRune(w)) })
			if n < 0 {
				n = len(w)
			}
			run := w[:n]
			w = w[n:]
			switch {
			case unspaced(firstRune(run)):
				add(`{spaced} : "`+strings.TrimSpace(spaced(run))+`"`, run)
			case phrase:
				plain = append(plain, run)
			case utf8.RuneCountInString(run) == 1:
				add(`"`+run+`"`, run)
			default:
				add(`"`+run+`"*`, run)
			}
		}
	}
	if len(plain) > 0 {
		add(`"`+strings.Join(plain, " ")+`"`, strings.Join(plain, " "))
	}
	q.match = strings.Join(terms, " AND ")
	return q
}

func firstRune(s string) rune { r, _ := utf8.DecodeRuneInString(s); return r }

// score says how much of a text is what was looked for: more occurrences count for more, but less and less, and for less in a longer text.
func (q *textQuery) score(text string) (s float64) {
	const enough = 8
	for _, f := range q.finders {
		n := float64(len(f.Find(text, enough)))
		s += n / (n + 1 + float64(len(text))/4000)
	}
	return s
}

// around gives what stands around the place of a text where most of what was looked for stands together, with all of it marked.
func (q *textQuery) around(text string) []TextPart {
	const most = 70 // bytes before and behind
	type hit struct {
		at     [2]int
		finder int
	}
	var hits []hit
	for i, f := range q.finders {
		for _, h := range f.Find(text, 50) {
			if startsWord(text, h[0]) {
				hits = append(hits, hit{h, i})
			}
		}
	}
	slices.SortStableFunc(hits, func(a, b hit) int { return cmp.Compare(a.at[0], b.at[0]) })
	at, best := [2]int{}, 0
	for i, h := range hits {
		near := map[int]bool{}
		for _, o := range hits[i:] {
			if o.at[0] > h.at[1]+most {
				break
			}
			near[o.finder] = true
		}
		if len(near) > best {
			at, best = h.at, len(near)
		}
	}
	before, found, after := layout.Around(text, toWordEnd(text, at), most)
	parts := q.marked(before)
	if found != "" {
		parts = append(parts, TextPart{found, true})
	}
	return append(parts, q.marked(after)...)
}

// marked cuts a text into what was looked for and what was not.
func (q *textQuery) marked(text string) (parts []TextPart) {
	var hits [][2]int
	for _, f := range q.finders {
		for _, h := range f.Find(text, 20) {
			if startsWord(text, h[0]) {
				hits = append(hits, toWordEnd(text, h))
			}
		}
	}
	slices.SortFunc(hits, func(a, b [2]int) int { return cmp.Compare(a[0], b[0]) })
	last := 0
	for _, h := range hits {
		if h[0] < last {
			continue
		}
		if h[0] > last {
			parts = append(parts, TextPart{Text: text[last:h[0]]})
		}
		parts = append(parts, TextPart{text[h[0]:h[1]], true})
		last = h[1]
	}
	if last < len(text) {
		parts = append(parts, TextPart{Text: text[last:]})
	}
	return parts
}

// startsWord reports whether a word begins at a place, or any letter of a script without spaces.
func startsWord(text string, at int) bool {
	r, _ := utf8.DecodeLastRuneInString(text[:at])
	return at == 0 || !isLetter(r) || unspaced(r) || unspaced(firstRune(text[at:]))
}

// toWordEnd makes a hit longer, to the end of the word that it begins.
func toWordEnd(text string, h [2]int) [2]int {
	for h[1] < len(text) {
		r, n := utf8.DecodeRuneInString(text[h[1]:])
		if h[1] == h[0] || unspaced(r) || !isLetter(r) {
			break
		}
		h[1] += n
	}
	return h
}

// Unread counts the pages of all documents that a person may see, which have no text, and so can't be found by it.
func (d *Desk) Unread(ctx context.Context, person uint) (pages int64, err error) {
	in, args, err := d.Scoped(ctx, person, "d")
	if err != nil {
		return 0, err
	}
	err = d.db.WithContext(ctx).Raw("SELECT count(*) FROM page_texts p JOIN documents d ON d.id = p.document_id WHERE p.text = '' AND d.away_at IS NULL AND "+in, args...).Scan(&pages).Error
	return pages, err
}
