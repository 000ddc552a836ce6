package main

import (
	"context"
	"errors"
)

func runBench(context.Context, config) error { return errors.New("bench: not yet") }
