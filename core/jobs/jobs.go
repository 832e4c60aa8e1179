// Package jobs gathers the steps of all jobs into one registry, for the desk and the
// command line.
package jobs

import (
	"slices"

	"glenrain/core/annotate"
	"glenrain/core/arrange"
	"glenrain/core/bookmark"
	"glenrain/core/edit"
	"glenrain/core/finding"
	"glenrain/core/furnish"
	"glenrain/core/recognize"
	"glenrain/core/step"
)

// Registry gives the registry of all steps there are.
func Registry() *step.Registry {
	return step.NewRegistry(furnish.Hooks(), slices.Concat(edit.Kinds(), annotate.Kinds(), arrange.Kinds(), bookmark.Kinds(), furnish.Kinds(), recognize.Kinds())...)
}

// LooseEnds gives the checks of all jobs for a file that is about to go out.
func LooseEnds() []finding.Check { return slices.Concat(furnish.Checks(), finding.General) }
