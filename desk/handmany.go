package desk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"glenrain/core/finding"
	"glenrain/core/naming"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
)

// Handing asks for several documents to be handed out at once, under names by a pattern.
type Handing struct {
	Documents []uint
	Person    uint
	RequestID string // of this request alone
	Pattern   naming.Pattern
	Typed     string // what the pattern's typed value is, for all
	Zip       string // the name of a zip of all of them; each by itself if empty
	Folder    uint   // a folder in which each is kept as a document; 0 for none
	AsItIs    bool   // although some have loose ends that ask
}

// Planned is a document with what would be handed out of it.
type Planned struct {
	Document Document
	Name     string // of the file
	Wrong    string // why it can't be handed out so
	Asks     []finding.Finding
}

// maxHanded is how many documents are handed out at once.
const maxHanded = 500

// PlanHanding tells what handing out would write, before it does: names, which are taken, and loose ends that ask.
func (d *Desk) PlanHanding(ctx context.Context, h Handing) ([]Planned, error) {
	if len(h.Documents) > maxHanded {
		return nil, step.Refuse("you can export up to %s at once", step.Count(maxHanded, "document"))
	}
	var out []Planned
	names := map[string]int{}
	for i, id := range h.Documents {
		row, err := d.row(ctx, id)
		if err == nil {
			err = d.may(ctx, h.Person, people.ActHandOut, row)
		}
		if err != nil {
			return nil, err
		}
		p := Planned{Document: *row, Name: trimPDF(strings.TrimSpace(h.Pattern.Name(naming.Values{Name: row.Name, Title: row.Name, Pages: fmt.Sprintf("1-%d", row.Pages),
			Typed: strings.TrimSpace(h.Typed), Date: d.now(), Number: i + 1, Of: len(h.Documents)})))}
		switch {
		case p.Name == "":
			p.Wrong = "a file would have no name: add something to the pattern"
		case h.Pattern.Has("typed") && strings.TrimSpace(h.Typed) == "":
			p.Wrong = "type the file number first"
		}
		p.Name = cleanName(p.Name) + ".pdf"
		if first, twice := names[nameKey(p.Name)]; twice && p.Wrong == "" {
			p.Wrong = fmt.Sprintf("“%s” would have the same name: add the name or the counter to the pattern", out[first].Document.Name)
		}
		names[nameKey(p.Name)] = i
		if p.Wrong == "" && h.Zip == "" {
			var taken *step.Refusal
			if err := d.nameTaken(ctx, d.db.WithContext(ctx), h.Person, p.Name); errors.As(err, &taken) {
				p.Wrong = "a file with this name was exported before: change the pattern"
			} else if err != nil {
				return nil, err
			}
		}
		out = append(out, p)
	}
	return out, nil
}

// HandedMany is what came of handing several out.
type HandedMany struct {
	Files  []uint   // ids of what was handed out
	Failed []string // sentences
}

// handedMany are the parameters of handing many out: with the names that were planned.
type handedMany struct {
	Handing
	Names []string
}

// exporting is handing many documents out, each by itself, anew, with nothing that was undone or removed.
var exporting = ManyKind{
	Name:  "export",
	Label: func(n int) string { return "Export " + step.Count(n, "document") },
	Told:  func(done, of int) string { return fmt.Sprintf("%d of %s exported.", done, step.Count(of, "document")) },
	Do: func(ctx context.Context, d *Desk, _ *background.Work, m *Many, it *ManyItem, _ func(done, of int)) (string, error) {
		var h handedMany
		if err := m.Read(&h); err != nil {
			return "", err
		}
		if it.Place >= len(h.Names) {
			return "", errors.New("there is no name for this file")
		}
		s, err := d.Look(ctx, m.PersonID, it.DocumentID)
		if err != nil {
			return "", err
		}
		var finish []string
		if h.Folder == 0 {
			finish = d.usual(s)
		}
		f, err := d.HandOut(ctx, &background.Work{}, Order{Document: it.DocumentID, Seen: s.State.ID, RequestID: m.request(it), Person: m.PersonID,
			Name: h.Names[it.Place], AsItIs: h.AsItIs, Finish: finish, Folder: h.Folder})
		if err != nil {
			return "", err
		}
		it.HandOutID = f.ID
		return "Exported as " + f.Name, nil
	},
	Result: func(_ *Many, items []ManyItem) (any, error) {
		out := &HandedMany{}
		for _, it := range items {
			switch {
			case it.HandOutID != 0:
				out.Files = append(out.Files, it.HandOutID)
			case it.Outcome == ManyWaits:
				out.Failed = append(out.Failed, fmt.Sprintf("“%s” was not exported, because you stopped", it.Name))
			case it.Outcome == ManyRefused:
				out.Failed = append(out.Failed, fmt.Sprintf("“%s” was not exported: %s", it.Name, step.Within(it.Sentence)))
			}
		}
		if len(out.Files) == 0 && len(out.Failed) > 0 {
			return nil, step.Refuse("nothing was exported. %s", strings.Join(out.Failed, "; "))
		}
		return out, nil
	},
}

// HandOutMany hands documents out as PlanHanding told, in the background. One that can't be does not stop the others, but for a zip, which has all or is not
// made. Its result is a *HandedMany.
func (d *Desk) HandOutMany(ctx context.Context, h Handing) (*background.Work, error) {
	if len(h.Documents) == 0 {
		return nil, step.Refuse("no document is selected")
	}
	plan, err := d.PlanHanding(ctx, h)
	if err != nil {
		return nil, err
	}
	if h.Folder != 0 {
		if f, err := d.Folder(ctx, h.Person, h.Folder); err != nil || f.ID == 0 {
			return nil, errors.Join(err, step.Refuse("this folder has been deleted"))
		}
	}
	if h.Zip != "" {
		asked := ctx
		return d.Start(h.Person, exporting.Label(len(plan)), func(ctx context.Context, w *background.Work) (any, error) {
			return d.zipDocuments(people.FromSame(ctx, asked), w, h, plan)
		}), nil
	}
	all := handedMany{Handing: h}
	for _, p := range plan {
		all.Names = append(all.Names, p.Name)
	}
	return d.Many(ctx, h.Person, exporting.Name, all, h.Documents, h.RequestID)
}

// zipDocuments hands documents out as one zip.
func (d *Desk) zipDocuments(ctx context.Context, w *background.Work, h Handing, plan []Planned) (*HandedMany, error) {
	if was, err := d.asked(ctx, h.Person, h.RequestID); err != nil {
		return nil, err
	} else if was != nil && was.HandOutID != 0 {
		return &HandedMany{Files: []uint{was.HandOutID}}, nil
	}
	name := strings.TrimSuffix(cleanName(h.Zip), ".zip") + ".zip"
	if err := d.nameTaken(ctx, d.db.WithContext(ctx), h.Person, name); err != nil {
		return nil, err
	}
	var files []zipped
	var also []uint
	pages := 0
	for i, p := range plan {
		if p.Wrong != "" {
			return nil, step.Refuse("“%s”: %s; nothing was exported", p.Document.Name, p.Wrong)
		}
		s, err := d.Look(ctx, h.Person, p.Document.ID)
		if err != nil {
			return nil, err
		}
		if !h.AsItIs {
			if asks := finding.Asking(d.LooseEnds(s)); len(asks) > 0 {
				return nil, step.Refuse("“%s”: %s. Nothing was exported: fix this first, or choose to export anyway", p.Document.Name, step.Within(asks[0].Sentence))
			}
		}
		if i > 0 {
			also = append(also, p.Document.ID)
		}
		pages += s.Document.Pages
		way, _, err := d.wayOut(ctx, s, d.usual(s))
		if err != nil {
			return nil, err
		}
		files = append(files, zipped{p.Name, func(to io.Writer) error { return d.writeInto(ctx, way, s.PDF.Fork(), to) }})
	}
	f := &HandOut{DocumentID: plan[0].Document.ID, StateID: plan[0].Document.HeadID, Name: name, Pages: pages, Files: len(files), PersonID: h.Person, At: d.now()}
	if len(also) > 0 {
		f.Also = toJSON(also)
	}
	if err := d.handZip(ctx, w, f, files, h.RequestID); err != nil {
		return nil, err
	}
	return &HandedMany{Files: []uint{f.ID}}, nil
}

// keptIn is what is handed out as a document in a folder, where it is found by those who see that.
func (d *Desk) keptIn(ctx context.Context, person, folder uint, h *HandOut) (*newDocument, error) {
	row := &Document{FolderID: folder, Name: trimPDF(h.Name), OriginalSHA: h.SHA, OriginalName: h.Name, ChangedBy: person, OwnerID: person,
		Made: Made{Of: "pages", Count: h.Pages, Name: trimPDF(h.Name)}}
	n, err := d.madeHere(ctx, row, h.SHA, h.Pages, "")
	if err != nil {
		return nil, err
	}
	return n, d.describeNew(n)
}
