package demo

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/standin/readers"
	"ombak/internal/store"
)

// Surroundings are what a demo stands in.
type Surroundings struct {
	Store *store.Store
	Clock *base.HandClock
	Seed  uint64
	// Letters is the folder of the letters that came; empty: they are kept in memory.
	Letters string
	MailIn  string // address to take mail at
	Readers string // where the readers' mailbox is shown; empty: nowhere
	Site    string // where the company's web site is; empty: it has none
	// Engine makes the engine, whose mail goes out to a server, and what ends it.
	Engine func(mailOut string) (*engine.Engine, func(), error)
}

// Open starts the stand-ins around an engine: a mail server, the readers of its
// letters, and where their answers come in. Whoever is done calls end.
func Open(ctx context.Context, s Surroundings) (d *Demo, end func(), err error) {
	var ends []func()
	end = func() {
		for i := range ends {
			ends[len(ends)-1-i]()
		}
	}
	defer func() {
		if err != nil {
			end()
		}
	}()
	world := &readers.World{Seed: s.Seed}
	out, err := mailserver.Start(mailserver.Options{Addr: "127.0.0.1:0", Dir: s.Letters, Now: s.Clock.Now,
		On: world.Got})
	if err != nil {
		return nil, nil, fmt.Errorf("starting the readers' mail server: %w", err)
	}
	ends = append(ends, func() { out.Close() })
	e, endEngine, err := s.Engine(out.Addr())
	if err != nil {
		return nil, nil, err
	}
	ends = append(ends, endEngine)
	in, err := mail.Listen(s.MailIn, e.Receive)
	if err != nil {
		return nil, nil, err
	}
	ends = append(ends, func() { in.Close() })
	world.Mail, world.View = out, &mailserver.View{Server: out, Answer: in.Addr(), Home: e.URL}
	return &Demo{Store: s.Store, Engine: e, Clock: s.Clock, World: world, Seed: s.Seed, Readers: s.Readers,
		Site: s.Site}, end, nil
}

// Plain is an engine of a demo that sends its mail to a server, as tests want it.
func Plain(ctx context.Context, s *store.Store, clock base.Clock, url, mailOut string) (*engine.Engine, func(), error) {
	sender, err := mail.NewSender(mailOut)
	if err != nil {
		return nil, nil, err
	}
	zone, err := time.LoadLocation(Zone)
	if err != nil {
		return nil, nil, err
	}
	e, err := engine.New(ctx, base.Config{Store: s, Clock: clock, Mail: sender, URL: url, Domain: "mail.karang.example",
		Zone: zone})
	return e, sender.Close, err
}
