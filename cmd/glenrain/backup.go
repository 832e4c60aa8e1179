package main

import (
	"fmt"
	"io"
	"os"

	"glenrain/core/step"
	"glenrain/desk"
)

type backupCommand struct {
	Data string `arg:"" help:"The data folder."`
	Out  string `short:"o" required:"" help:"The file to write, a tar archive."`
}

func (c *backupCommand) Run() error {
	var files int
	err := writeWhole(c.Out, 0o600, func(w io.Writer) (err error) {
		files, err = desk.Backup(c.Data, w)
		return err
	})
	if err != nil {
		return err
	}
	fmt.Printf("The database and %s are in %s.\n", step.Count(files, "file"), c.Out)
	return nil
}

type restoreCommand struct {
	File string `arg:"" help:"The backup."`
	Data string `short:"o" required:"" help:"The data folder to make; it must not be there, or be empty."`
}

func (c *restoreCommand) Run() error {
	f, err := os.Open(c.File)
	if err != nil {
		return err
	}
	defer f.Close()
	files, err := desk.Restore(f, c.Data)
	if err != nil {
		return err
	}
	fmt.Printf("The database and %s were restored. Serve them with: glenrain serve --data %s\n", step.Count(files, "file"), c.Data)
	return nil
}
