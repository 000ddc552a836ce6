package main

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"time"

	"ombak/internal/soak"
)

// benchSoak lets workers loose on generated sequences, and kills them, for some minutes; it
// fails where something did not hold. `ombak bench soak 7` takes another seed.
func benchSoak(ctx context.Context, address string) error {
	seed := uint64(100)
	if len(os.Args) > 3 {
		n, err := strconv.ParseUint(os.Args[3], 10, 32)
		if err != nil {
			return fmt.Errorf("the seed is a number: %w", err)
		}
		seed = n
	}
	began := time.Now()
	got, err := soak.Run(ctx, soak.Options{URL: address, Seed: seed, People: 300, Sequences: 10, Days: 21,
		Grain: 2 * time.Hour, Workers: 4, KillEvery: 4,
		Log: func(format string, args ...any) { fmt.Printf("  "+format+"\n", args...) }})
	if err != nil {
		return err
	}
	fmt.Printf("seed %d: %d entered, %d steps, %d letters (%d one-off), %d held, %d kills in %s\n", seed, got.Entered,
		got.Steps, got.Letters, got.Mailed, got.Held, got.Kills, time.Since(began).Round(time.Second))
	for _, b := range got.Broken {
		fmt.Println("  BROKEN:", b)
	}
	if n := len(got.Broken); n > 0 {
		return fmt.Errorf("%d things did not hold", n)
	}
	fmt.Println("everything held")
	return nil
}
