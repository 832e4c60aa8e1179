package demo

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"time"

	"glenrain/core/pdf"
	"glenrain/core/picture"
)

const a4w, a4h, a5w, a5h = 210 * mm, 297 * mm, 148 * mm, 210 * mm

func letter() (File, error) {
	s := newSheet(a4w, a4h, 25*mm, 20*mm, 25*mm)
	s.page()
	s.colour("2f6149")
	s.line("Sans Bold", 15, s.side, s.y-6, House)
	s.colour("1d2522")
	s.line("Sans", 9, s.side, s.y-20, "Harbour Office, The Knuckle, Orrin Quay")
	s.space(78)
	for _, l := range []string{"To all holders of a winter berth", "", "25 November 2026"} {
		s.line("Serif", 11, s.side, s.y, l)
		s.space(15)
	}
	s.space(12)
	s.line("Serif Bold", 12, s.side, s.y, "Dredging at the north face, and your berth from 11 January")
	s.space(10)
	for _, p := range []string{
		"Dear berth holder,",
		"Between Monday 11 January and Friday 5 March 2027 the Trust will have the berths along the north face dredged to their charted depth. The survey of October found up to half a metre of silt between stations 14 and 19, where vessels drawing more than 2.1 metres already take the ground at low water springs. The full survey report goes with this letter.",
		"While the dredger lies at the north face, berths North 1 to North 6 must be empty. Every vessel berthed there is offered a place of the same length at the ice quay or in the inner basin, at no charge for the move. Please tell the harbour office by 18 December which of the two you prefer; whoever does not answer will be given a place at the ice quay.",
		"Shore power at the ice quay is limited to 6 amperes a berth. Vessels that need more for frost protection should ask for the inner basin. Mooring lines must be doubled from 1 December on, with chafing gear at every fairlead: two parted lines in the gale of 9 November damaged three neighbours.",
		"The tariff for 2027 is unchanged for vessels up to eight metres. For longer ones it rises by three per cent; the tariff sheet is on the second page. Berth fees fall due on 31 January as in other years.",
		"If you keep a trailer, a cradle or a tender on the hard standing behind the ice house, move it to the ferry field by 4 January, since the spoil barge will be loaded there. What is left will be moved by the Trust, at the owner's cost.",
		"With good wishes for the winter,",
	} {
		s.para("Serif", 11, p)
	}
	s.space(30)
	s.line("Serif Italic", 13, s.side, s.y, "Isla Merrow")
	s.space(14)
	s.line("Serif", 10, s.side, s.y, "Harbour master")
	s.page()
	s.heading(15, "Winter berths: tariff for 2027")
	s.para("Serif", 11, "All amounts in crowns for the season from 1 October to 31 March, with water and the use of the hard standing. Shore power is read by meter.")
	var rows [][]string
	for i, r := range []struct {
		n       string
		a, b, c int
	}{{"up to 5 m", 310, 280, 240}, {"5 to 6 m", 365, 330, 285}, {"6 to 7 m", 430, 390, 335}, {"7 to 8 m", 505, 455, 395}, {"8 to 10 m", 628, 566, 489}, {"10 to 12 m", 762, 690, 592}, {"12 to 15 m", 947, 855, 736}} {
		_ = i
		rows = append(rows, []string{r.n, fmt.Sprint(r.a), fmt.Sprint(r.b), fmt.Sprint(r.c)})
	}
	s.table(10, []float64{0.34, 0.22, 0.22, 0.22}, []string{"Length", "North face", "Ice quay", "Inner basin"}, rows)
	s.para("Serif", 11, "Multihulls pay half as much again. Vessels laid up ashore pay two thirds of the amount for the ice quay. Members of the lifeboat crew are free of berth fees for one vessel.")
	return s.file("Letter to berth holders.pdf")
}

func survey() (File, error) {
	s := newSheet(a4w, a4h, 25*mm, 26*mm, 24*mm)
	s.running = func(page int) string {
		if page == 1 {
			return ""
		}
		return "Quay wall survey, October 2026"
	}
	r := rand.New(rand.NewPCG(7, 19))
	img, err := picture.Decode(scene(1500, 1000, 3, 72))
	if err != nil {
		return File{}, err
	}
	photo, err := img.XObject(s.doc)
	if err != nil {
		return File{}, err
	}
	s.page()
	s.space(150)
	s.colour("2f6149")
	s.content.Op("re", s.side, s.y-6, 60.0, 4.0).Op("f")
	s.colour("1d2522")
	s.space(44)
	s.line("Sans Bold", 30, s.side, s.y, "Quay wall survey")
	s.space(28)
	s.line("Sans", 15, s.side, s.y, "North face, ferry ramp to knuckle")
	s.space(60)
	for _, l := range []string{"Surveyed 12 to 16 October 2026", "for the " + House, "by Pell & Strand, hydrographic surveyors"} {
		s.line("Serif", 12, s.side, s.y, l)
		s.space(18)
	}
	s.page()
	berths := []string{"North 1", "North 2", "North 3", "North 4", "North 5", "North 6", "Ferry ramp", "Ice quay"}
	chapters := []string{"Summary", "What was measured, and how", "Condition of the wall", "Depth at the berths", "Fenders and ladders", "Scour at the toe", "Bollards and rings", "Lights and services", "What should be done", "Costs and order of work"}
	said := []string{
		"The north face was sounded at two-metre stations from the ferry ramp to the knuckle.",
		"Readings below the mean low-water line agree with the spring survey within five centimetres, except between stations 14 and 19, where the toe has settled.",
		"Timber fenders are sound above the splash zone; below it, marine borers have reached the heartwood of six piles, marked in the figure.",
		"The pointing between the courses is open over a length of eleven metres, and the fill behind it has begun to wash out at each ebb.",
		"Divers found the concrete toe undercut by up to forty centimetres, over a width of three stations, and bridged by rubble that can't be relied on.",
		"Ladder 14 hangs by its upper fixings only and was roped off on the second day.",
		"Bollard 7 moved by two millimetres under the test pull of fifty kilonewtons and came back when the load was taken off.",
		"Silt lies on the berths to a mean depth of 0.31 metres; it is soft, holds no stones larger than a fist, and can be lifted with a grab.",
		"Where two readings differ by more than ten centimetres both were taken again on the following tide, and the mean of the four is given.",
		"Nothing was found that would keep vessels of up to two metres draught from the berths before the work begins.",
	}
	for i, c := range chapters {
		s.room(170)
		if i > 0 {
			s.page()
		}
		s.bookmark(fmt.Sprintf("%d %s", i+1, c))
		s.heading(17, fmt.Sprintf("%d %s", i+1, c))
		for part := range 3 {
			if part > 0 {
				s.heading(12.5, fmt.Sprintf("%d.%d %s", i+1, part, []string{"Stations 1 to 12", "Stations 13 to 24"}[part-1]))
			}
			for range 2 + r.IntN(2) {
				r.Shuffle(len(said), func(a, b int) { said[a], said[b] = said[b], said[a] })
				s.para("Serif", 10.5, strings.Join(said[:4], " "))
			}
			switch (i + part) % 4 {
			case 1:
				var rows [][]string
				for _, b := range berths {
					charted := 3.2 + float64(r.IntN(20))/10
					sounded := charted - float64(r.IntN(50))/100
					rows = append(rows, []string{b, fmt.Sprintf("%.2f", charted), fmt.Sprintf("%.2f", sounded), strings.Replace(fmt.Sprintf("%.2f", sounded-charted), "-", "−", 1)})
				}
				s.table(9.5, []float64{0.4, 0.2, 0.2, 0.2}, []string{"Berth", "Charted, m", "Sounded, m", "Change, m"}, rows)
			case 2:
				if i%3 == 0 {
					s.picture(photo, 1500, 1000, fmt.Sprintf("Figure %d. Piles with borer damage, looking east at low water.", i+1))
				}
			case 3:
				v := make([]float64, 24)
				for j := range v {
					v[j] = 0.12 + 0.35*math.Exp(-math.Pow(float64(j-16)/4, 2)) + r.Float64()*0.06
				}
				s.chart(120, v, fmt.Sprintf("Figure %d. Depth of silt at stations 1 to 24, in metres.", i+1))
			}
		}
	}
	return s.file("Quay wall survey.pdf")
}

// tideTable predicts the tide from four constituents of an invented port.
func tideTable() (File, error) {
	s := newSheet(a5w, a5h, 13*mm, 16*mm, 14*mm)
	height := func(t time.Time) float64 {
		h := t.Sub(time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)).Hours()
		c := func(amp, period, phase float64) float64 { return amp * math.Cos(2*math.Pi*h/period-phase) }
		// periods of M2, S2, N2 and O1 in hours
		return 2.35 + c(1.42, 12.4206, 0.7) + c(0.48, 12, 1.9) + c(0.29, 12.6583, 0.2) + c(0.08, 25.8193, 2.4)
	}
	for m := time.January; m <= time.December; m++ {
		s.page()
		s.bookmark(m.String())
		s.heading(14, fmt.Sprintf("%s 2027", m))
		s.line("Sans", 7.5, s.side, s.y-4, "High and low water at Orrin Quay, in metres above chart datum, times in UTC")
		s.space(6)
		var rows [][]string
		for day := time.Date(2027, m, 1, 0, 0, 0, 0, time.UTC); day.Month() == m; day = day.AddDate(0, 0, 1) {
			row := []string{day.Format("Mon 2")}
			for t := day; t.Before(day.AddDate(0, 0, 1)) && len(row) < 5; t = t.Add(time.Minute) {
				a, b, c := height(t.Add(-time.Minute)), height(t), height(t.Add(time.Minute))
				if b > a && b >= c || b < a && b <= c {
					row = append(row, fmt.Sprintf("%s  %.1f", t.Format("15:04"), b))
				}
			}
			for len(row) < 5 {
				row = append(row, "")
			}
			rows = append(rows, row)
		}
		s.table(7.2, []float64{0.16, 0.21, 0.21, 0.21, 0.21}, []string{"Day", "", "", "", ""}, rows)
	}
	return s.file("Tide table 2027.pdf")
}

// byelaws is a long volume: 1,200 pages of small clauses.
func byelaws() (File, error) {
	const pages = 1200
	s := newSheet(a5w, a5h, 15*mm, 17*mm, 16*mm)
	s.running = func(page int) string {
		if page == 1 {
			return ""
		}
		return "Byelaws of the " + House + ", consolidated"
	}
	r := rand.New(rand.NewPCG(1931, 4))
	who := []string{"The master of a vessel", "The owner of a tender", "Every holder of a berth", "A carrier of goods", "The pilot", "Whoever lands fish", "The keeper of the ice house", "Any person on the quay"}
	must := []string{"shall not leave", "shall keep clear of", "shall tell the harbour master before using", "may with leave in writing use", "shall at their own cost make good any hurt to", "shall between sunset and sunrise light", "shall within two tides remove anything laid upon"}
	what := []string{"the ferry ramp", "the north face", "a mooring ring", "the inner basin", "the ice quay", "the public steps", "a buoy or beacon of the Trust", "the weighbridge", "the cranes", "the spoil ground"}
	when := []string{"while a vessel is under way in the fairway", "at low water springs", "when the storm cone is hoisted", "on a day of assembly", "from the first of October to the last of March", "unless the lock keeper has given the signal", "for longer than one tide", "without a watch on deck"}
	or := []string{"and is liable to a fine of up to forty crowns.", "save as clause %d allows.", "and the harbour master may order otherwise.", "in the manner set out in clause %d.", "and shall enter it in the book kept for that purpose."}
	pick := func(a []string) string { return a[r.IntN(len(a))] }
	s.page()
	s.space(120)
	s.line("Serif Bold", 20, s.side, s.y, "Byelaws")
	s.space(24)
	s.line("Serif", 12, s.side, s.y, "of the "+House)
	s.space(18)
	s.line("Serif Italic", 11, s.side, s.y, "consolidated to 1 July 2026")
	part := 0
	for clause := 1; ; clause++ {
		if want := len(s.pages) / 40; want >= part && len(s.pages) < pages {
			part++
			s.page()
			title := fmt.Sprintf("Part %d. Of %s", part, strings.TrimPrefix(what[(part*7)%len(what)], "the "))
			s.bookmark(title)
			s.heading(13, title)
		}
		var text strings.Builder
		for range 2 + r.IntN(3) {
			end := pick(or)
			if strings.Contains(end, "%d") {
				end = fmt.Sprintf(end, 1+r.IntN(clause))
			}
			fmt.Fprintf(&text, "%s %s %s %s, %s ", pick(who), pick(must), pick(what), pick(when), end)
		}
		s.para("Serif", 9.5, fmt.Sprintf("%d. %s", clause, text.String()))
		if len(s.pages) > pages || len(s.pages) == pages && s.y < s.ft+230 {
			break
		}
	}
	return s.file("Byelaws, consolidated.pdf")
}

// scannedSheet is a sheet as a scanner sends it: one JPEG, a little askew.
func scannedSheet() (File, error) {
	data := scan()
	p, err := picture.Decode(data)
	if err != nil {
		return File{}, err
	}
	s := newSheet(a4w, a4h, 0, 0, 0)
	s.page()
	im, err := p.XObject(s.doc)
	if err != nil {
		return File{}, err
	}
	s.images.Set(pdf.Name("Scan"), im)
	s.content.Op("q").Op("cm", s.w, 0.0, 0.0, s.h, 0.0, 0.0).Op("Do", pdf.Name("Scan")).Op("Q")
	s.close()
	s.doc.Edit(s.pages[0]).Set("Resources", pdf.NewDict("XObject", pdf.NewDict("Scan", im)))
	return s.file("Mooring licence, signed.pdf")
}
