package desk

import (
	"context"
	"strconv"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/sequence"
	"ombak/internal/core/social"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// networkForm is how often on a day a user does social touches, and whether the network does them.
type networkForm struct {
	There  bool // a network is connected
	On     bool
	Limits []limitField
}

// limitField is how often one thing is done.
type limitField struct {
	What  sequence.SocialAct
	Words string
	N     int
}

var limitWords = map[sequence.SocialAct]string{sequence.Connect: "requests", sequence.SocialNote: "messages",
	sequence.Visit: "visits", sequence.React: "reactions", sequence.Vouch: "skills vouched for"}

// networkForm reads it; nil where there is nothing to choose.
func (s *Place) networkForm(ctx context.Context, u store.User) (*networkForm, error) {
	if u.Role == right.Marketer {
		return nil, nil
	}
	limits, err := s.Store.SocialLimits(ctx, u.ID)
	if err != nil {
		return nil, err
	}
	accounts, err := s.Store.NetworkAccounts(ctx)
	if err != nil {
		return nil, err
	}
	f := &networkForm{There: s.Engine.Network != nil}
	for _, a := range accounts {
		f.On = f.On || a.User == u.ID
	}
	for _, what := range sequence.SocialActs() {
		f.Limits = append(f.Limits, limitField{what, limitWords[what], limits.Of(what)})
	}
	return f, nil
}

// setNetwork keeps whether the network does the user's social touches.
func (s *Place) setNetwork(c *echo.Context) error {
	limits, network := social.Limits{}, c.FormValue("by") == "network"
	for _, what := range sequence.SocialActs() {
		n, err := strconv.Atoi(c.FormValue("limit." + string(what)))
		if err != nil {
			return s.NotDone(c, "/desk", "Say how often on a day, in numbers.")
		}
		limits[what] = n
	}
	err := s.Engine.SetSocial(c.Request().Context(), shell.UserOf(c).ID, limits, network)
	if _, plain := plainly.Says(err); plain {
		return s.NotDone(c, "/desk", shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	if !network {
		return s.Done(c, "/desk", "Social touches wait for you on the desk, on each day as many as you say.")
	}
	return s.Done(c, "/desk", "The network does your social touches, as far as each day has room.")
}
