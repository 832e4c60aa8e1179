// Package docs has the texts that the program shows too.
package docs

import _ "embed"

// Howto says how to do each job, in Markdown: a station a section (##), a job a heading (###), the address of its settings in a comment below it.
//
//go:embed HOWTO.md
var Howto string
