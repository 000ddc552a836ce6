package demo

import (
	"context"

	"ombak/internal/core/mailbox"
	"ombak/internal/store"
)

// keepShelf puts a few things on the shelf, some of which were taken, and
// agrees with two accounts how much they send.
func (d *Demo) keepShelf(ctx context.Context, ids, people []int64) error {
	ends := Start.AddDate(0, 2, 0)
	table := []byte("fish;alarm below, mg/l;act below, mg/l\nsalmon;7.0;6.0\ntrout;6.5;5.5\nsea " +
		"bass;5.5;4.5\nshrimp;4.5;3.5\n")
	for i, x := range []struct {
		item store.ShelfItem
		data []byte
	}{
		{store.ShelfItem{Kind: "file", Title: "Field guide to dissolved-oxygen alarms",
			File:  "dissolved-oxygen-alarms.pdf",
			About: "Where to measure, how low is too low, and alarms that people believe", Language: "en",
			Stage: "first talk", Note: "Page 4 is the one to point at"}, guidePDF()},
		{store.ShelfItem{Kind: "file", Title: "Oxygen limits by fish", File: "oxygen-limits.csv",
			About: "A table to hang beside the feed plan", Language: "en", Stage: "trial",
			Note: "Ask which fish first"}, table},
		{store.ShelfItem{Kind: "link", Title: "Talk: a winter with ice", URL: "https://karang.example/talks/winter",
			About: "22 minutes from last year’s clinic", Language: "en", Stage: "offer",
			Note: "For whoever asks about ice", Ends: &ends}, nil},
	} {
		id, err := d.Engine.SaveShelfItem(ctx, x.item, x.data, ids[0])
		if err != nil {
			return err
		}
		item, err := d.Store.ShelfItem(ctx, id)
		if err != nil {
			return err
		}
		for _, p := range people[:len(people)-2*i] {
			if err := d.Engine.TakeShelf(ctx, item, p); err != nil {
				return err
			}
		}
	}
	if err := d.Engine.SetMailbox(ctx, ids[0],
		mailbox.Box{Daily: 2000, Begin: 600, Step: 100, Began: Start.AddDate(0, 0, -Lived)}); err != nil {
		return err
	}
	for _, rep := range ids[1:3] {
		if err := d.Engine.SetMailbox(ctx, rep, mailbox.Box{Daily: 150}); err != nil {
			return err
		}
	}
	return nil
}
