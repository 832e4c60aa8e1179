package web

import "glenrain/core/furnish"

// keyGroup is a part of the key map that is shown on "?".
type keyGroup struct {
	Title string
	Keys  []keyLine
}

type keyLine struct {
	Keys []string
	What string
}

var everywhere = keyGroup{"Everywhere", []keyLine{
	{[]string{"/", "Ctrl", "F"}, "to the finder"},
	{[]string{"?"}, "these keys"},
}}

func documentKeys() []keyGroup {
	return []keyGroup{everywhere, {"Documents", []keyLine{
		{[]string{"Tab", "Space"}, "to a document; choose it"},
		{[]string{"Enter"}, "open the document under the focus"},
	}}}
}

func deskKeys() []keyGroup {
	return []keyGroup{
		everywhere,
		{"On the desk", []keyLine{
			{[]string{"U"}, "go a step back"},
			{[]string{"Shift", "U"}, "go a step forward"},
			{[]string{"E"}, "reader's view and back"},
			{[]string{"1", "…", "5"}, "to a station"},
			{[]string{"Page Down"}, "next page"},
			{[]string{"Page Up"}, "page before"},
			{[]string{"+", "−", "0"}, "larger, smaller, whole page"},
			{[]string{"N"}, "next hit in the text"},
			{[]string{"Shift", "N"}, "hit before"},
		}},
		{"In Review, on the page", []keyLine{
			{[]string{"←", "→", "↑", "↓"}, "go through the text"},
			{[]string{"Shift", "arrow"}, "take text on the way"},
			{[]string{"G"}, "by word, line, paragraph, column"},
			{[]string{"C"}, "copy what is taken"},
			{[]string{"M"}, "mark it"},
			{[]string{"Esc"}, "take nothing"},
		}},
		{"In Arrange", []keyLine{
			{[]string{"←", "→", "↑", "↓"}, "go from page to page"},
			{[]string{"Space"}, "choose the page or leave it"},
			{[]string{"Shift", "arrow"}, "choose on the way"},
			{[]string{"A"}, "choose all, or none"},
			{[]string{"R"}, "turn right"},
			{[]string{"L"}, "turn left"},
			{[]string{"Delete"}, "take out"},
			{[]string{"X"}, "lift what is chosen"},
			{[]string{"V"}, "set it down before the cursor"},
			{[]string{"Shift", "V"}, "set it down after the cursor"},
			{[]string{"Enter"}, "do what the slip says"},
			{[]string{"Esc"}, "leave it"},
		}},
	}
}

// part makes a part of a wording for a template.
func part(field, text string) furnish.Part { return furnish.Part{Field: field, Text: text} }
