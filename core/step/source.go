package step

import (
	"context"
	"io"

	"glenrain/core/pdf"
)

// SourceRef names a document, a picture or another file that a step takes something from: "path:FILE" on the command line,
// "sha256:HASH" for a stored file, "state:ID" for a state of a document in the house. It is a parameter type of its own so that
// what a step needs is found in any step (NamedSources) and kept as long as the step is.
type SourceRef string

// Source is what a SourceRef names, opened.
type Source struct {
	Name string
	Data io.ReaderAt
	Size int64
	// Doc is set where the source is a state of a document in the house.
	Doc *pdf.Document
}

// Sources opens what a step names. What it gave stays open until the run ends.
type Sources interface {
	Open(ctx context.Context, ref SourceRef) (*Source, error)
}

// Files keeps what a step's work made, so that a replay need not do it again.
type Files interface {
	Keep(write func(io.Writer) error) (SourceRef, error)
}

// Worker is a step with work that takes long or is done by an outside program. The runner calls Work before Apply: it puts what it
// makes into env.Files and keeps the references in the step's own parameters, where a later run of the same step finds it
// done. A replay therefore costs what Apply costs.
type Worker interface {
	Step
	Work(ctx context.Context, doc *pdf.Document, env *Env) error
}
