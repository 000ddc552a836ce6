package setup

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"

	"ombak/internal/core/answer"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/store"
)

// ErrChangedSince is answered to somebody who would take back what was changed again since.
var ErrChangedSince = plainly.New("this was changed again since: take that back first")

// The kinds of what is changed in the settings. A change is kept as the whole document before
// and after, so that taking it back is setting the document as it was.
const (
	ofWorkspace = "workspace"
	ofUser      = "user"
	ofTeam      = "team"
	ofHolidays  = "holidays"
	ofAnswers   = "answers"
	ofStages    = "stages"
	ofGrounds   = "grounds"
	ofPipelines = "pipelines"
	ofRate      = "rate"
	ofHanding   = "handing"
)

// changed keeps that something was changed, with how it was and what it became, and answers
// the change's id; 0 where nothing is different.
func (e *Setup) changed(
	ctx context.Context, tx store.Tx, user int64, c store.SettingChange, was, became any,
) (id int64, err error) {
	if c.Was, err = json.Marshal(was); err != nil {
		return 0, fmt.Errorf("keeping a change: %w", err)
	}
	if c.Became, err = json.Marshal(became); err != nil {
		return 0, fmt.Errorf("keeping a change: %w", err)
	}
	if bytes.Equal(c.Was, c.Became) {
		return 0, nil
	}
	c.At = e.Now()
	return tx.AddSettingChange(ctx, &c, user)
}

// UndoSetting takes back a change of the settings, unless the same was changed since.
func (e *Setup) UndoSetting(ctx context.Context, id, user int64) error {
	batch := int64(0)
	var after func()
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		c, err := tx.SettingChange(ctx, id)
		if err != nil {
			return err
		}
		if c.Undone {
			return plainly.New("this was taken back already")
		}
		if since, err := tx.ChangedSince(ctx, &c); err != nil || since {
			if err == nil {
				err = ErrChangedSince
			}
			return err
		}
		switch c.Kind {
		case ofWorkspace:
			var w base.Workspace
			if err = json.Unmarshal(c.Was, &w); err == nil {
				var is base.Workspace
				if is, err = e.WorkspaceNow(ctx, tx); err != nil {
					return err
				}
				w.Tried, w.Rests = is.Tried, is.Rests
				if batch, err = e.KeepWorkspace(ctx, tx, w); err == nil {
					err = e.countAnew(ctx, tx, is, w)
				}
				if err == nil {
					after = func() { e.Knows(w) }
				}
			}
		case ofUser:
			// What a change of before does not have stays as it is.
			var id int64
			if id, err = strconv.ParseInt(c.Key, 10, 64); err != nil {
				return err
			}
			var u store.User
			if u, err = tx.User(ctx, id); err != nil {
				return err
			}
			if err = json.Unmarshal(c.Was, &u); err == nil {
				err = keepsAnAdmin(ctx, tx, u.ID, u.Role == "admin")
			}
			if err == nil {
				err = tx.SetUser(ctx, u)
			}
		case ofTeam:
			var t store.Team
			if err = json.Unmarshal(c.Was, &t); err == nil && t.Name == "" {
				err = tx.RemoveTeam(ctx, t.ID, e.Now())
			} else if err == nil {
				_, err = tx.KeepTeam(ctx, t, e.Now())
			}
		case ofStages:
			err = e.restoreStages(ctx, tx, c.Was)
		case ofPipelines:
			err = e.restorePipelines(ctx, tx, c.Was)
		case ofRate:
			var r pipeline.Rate
			if err = json.Unmarshal(c.Was, &r); err == nil {
				err = e.keepRates(ctx, tx, []pipeline.Rate{r})
			}
		case ofHanding:
			err = e.restoreHanding(ctx, tx, c.Was)
		case ofGrounds:
			err = restoreGrounds(ctx, tx, c.Was)
		case ofAnswers:
			var rules answer.Rules
			if err = json.Unmarshal(c.Was, &rules); err == nil {
				err = tx.KeepSetting(ctx, sales.AnswerRulesSetting, rules)
			}
		case ofHolidays:
			after, err = e.restoreHolidays(ctx, tx, &c)
		}
		if err != nil {
			return err
		}
		return tx.SettingUndone(ctx, id)
	})
	if err == nil && after != nil {
		after()
	}
	return e.AskFor(ctx, batch, err)
}

// ChangeWorkspace keeps what holds for everybody here, and answers the change.
func (e *Setup) ChangeWorkspace(ctx context.Context, w base.Workspace, user int64) (change int64, err error) {
	if err := w.Check(); err != nil {
		return 0, err
	}
	if w.Keep.Apart != 0 {
		spaces, err := e.Store.Spaces(ctx)
		if err != nil {
			return 0, err
		}
		if !slices.Contains(spaces, w.Keep.Space) {
			return 0, plainly.Errorf("the database has no tablespace “%s” in which months can be set apart",
				w.Keep.Space)
		}
	}
	batch := int64(0)
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		was, err := e.WorkspaceNow(ctx, tx)
		if err != nil {
			return err
		}
		w.Rests = was.Rests
		if batch, err = e.KeepWorkspace(ctx, tx, w); err != nil {
			return err
		}
		if err := e.countAnew(ctx, tx, was, w); err != nil {
			return err
		}
		was.Tried, was.Rests = w.Tried, w.Rests
		change, err = e.changed(ctx, tx, user, store.SettingChange{Kind: ofWorkspace, Words: "the workspace"}, was, w)
		return err
	})
	if err == nil {
		e.Knows(w)
	}
	return change, e.AskFor(ctx, batch, err)
}

// ChangeAnswerRules keeps the rules by which it is suggested what answers come to, and answers the
// change.
func (e *Setup) ChangeAnswerRules(ctx context.Context, rules answer.Rules, user int64) (change int64, err error) {
	if err := rules.Check(); err != nil {
		return 0, err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		was := answer.Usual()
		if err := tx.LockSetting(ctx, sales.AnswerRulesSetting); err != nil {
			return err
		}
		if _, err := tx.Setting(ctx, sales.AnswerRulesSetting, &was); err != nil {
			return err
		}
		if err := tx.KeepSetting(ctx, sales.AnswerRulesSetting, rules); err != nil {
			return err
		}
		change, err = e.changed(ctx, tx, user,
			store.SettingChange{Kind: ofAnswers, Words: "what leads to the suggestions for answers"}, was, rules)
		return err
	})
	return change, err
}
