package station

// Section is a part of the office's settings that a capability adds: web.Screens gives it to the settings' screen.
type Section struct {
	Name   string // in addresses
	Title  string
	About  string // a sentence below the title; may be empty
	Fields []Setting
}

// Setting is one value of a section, kept as a text under its key (desk.Setting).
type Setting struct {
	Key     string // "office.name"
	Label   string
	Help    string
	Most    int         // characters; 0 for as many as there may be
	Choices [][2]string // value and label; any text where there are none
	Secret  bool        // kept encrypted, and never shown (desk.Seal)
	Check   func(value string) error
}
