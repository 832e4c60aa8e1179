package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"glenrain/core/intake"
	"glenrain/porter"
)

// convertFile turns a file of another kind into pages, in a file in a folder; kind None where it is a PDF, a picture, or nothing known.
func convertFile(ctx context.Context, path string, f *os.File, size int64, o intake.Options, folder, to string) (intake.Kind, error) {
	kind := intake.Find(ctx, path, f, size)
	switch kind {
	case intake.None:
		return kind, nil
	case intake.Zip:
		return kind, fmt.Errorf("%s is a zip file or an unknown kind of package: unpack it and name its contents: %w", filepath.Base(path), errUnreadable)
	}
	out, err := porter.Convert(ctx, porter.Conversion{Path: path, Size: size, Name: filepath.Base(path), Kind: kind, Options: o, Folder: folder, Out: to})
	var not *porter.NotConverted
	var stopped *porter.Stopped
	if errors.As(err, &not) || errors.As(err, &stopped) {
		return kind, fmt.Errorf("%s: %w: %w", filepath.Base(path), errUnreadable, err)
	}
	if err != nil {
		return kind, fmt.Errorf("%s: %w", filepath.Base(path), err)
	}
	for _, t := range out.Told {
		fmt.Printf("%s: %s\n", filepath.Base(path), t)
	}
	return kind, nil
}
