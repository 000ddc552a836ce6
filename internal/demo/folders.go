package demo

import (
	"context"
	"fmt"
	"strings"

	"ombak/internal/core/folder"
	"ombak/internal/engine/setup"
)

// inFolders is where the scenario's things lie: what has one of the words in its name lies there.
var inFolders = []struct{ word, path, note string }{
	{"clinic", "Clinics / Calibration", "Fills the calibration clinic, and follows up"},
	{"field guide", "Field guide", "Brings new readers by the guide to oxygen alarms"},
	{"oxygen", "Field guide", "Brings new readers by the guide to oxygen alarms"},
	{"loan", "Loans", "Ten loans of a buoy a month"},
	{"win back", "Readers we know", ""}, {"welcome", "Readers we know", ""},
	{"desalination", "Markets / Desalination", ""}, {"ports", "Markets / Ports", ""},
	{"waterworks", "Markets / Waterworks", ""},
}

// fileAll puts what the scenario has made into folders.
func (d *Demo) fileAll(ctx context.Context) error {
	for kind, of := range map[string]folder.Kind{"sequence": folder.Sequence, "message": folder.Message,
		"page": folder.Page, "audience": folder.Audience, "one-off email": folder.Email, "on the shelf": folder.Shelf} {
		list, err := d.Store.Named(ctx)
		if err != nil {
			return err
		}
		for _, x := range list {
			for _, in := range inFolders {
				if x.Kind != kind || !strings.Contains(strings.ToLower(x.Name), in.word) {
					continue
				}
				if _, _, err := d.Engine.File(ctx, setup.Filing{Kind: of, ID: x.ID, Path: in.path}); err != nil {
					return fmt.Errorf("putting “%s” into a folder: %w", x.Name, err)
				}
				break
			}
		}
	}
	tree, err := d.Store.Folders(ctx)
	if err != nil {
		return err
	}
	for _, in := range inFolders {
		names, err := folder.ReadPath(in.path)
		if err != nil {
			return err
		}
		id, left := tree.At(names)
		if f, ok := tree.Find(id); ok && len(left) == 0 && in.note != "" {
			f.Note = in.note
			if _, err := d.Engine.KeepFolder(ctx, f); err != nil {
				return err
			}
		}
	}
	return nil
}
