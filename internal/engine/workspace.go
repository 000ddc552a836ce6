package engine

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/mail"
	"ombak/internal/password"
	"ombak/internal/store"
)

// Workspace is what holds for everybody here.
type Workspace struct {
	Name     string    `json:"name"`
	Zone     string    `json:"zone"`           // an IANA name; empty: as the machine's settings say
	From     int       `json:"from"`           // working hours, in minutes since midnight
	To       int       `json:"to"`             //
	Address  string    `json:"address"`        // of the sender, as the law wants it under each email; a line each
	Currency string    `json:"currency"`       // in which deals are worth something (ISO 4217)
	Tried    time.Time `json:"tried,omitzero"` // when the mail server last took a test letter
}

// usualWorkspace is one that nobody has said anything of. Its hours are common
// practice, no source.
func usualWorkspace() Workspace { return Workspace{From: 8*60 + 30, To: 17 * 60, Currency: "EUR"} }

const workspaceSetting = "workspace"

// refreshAfter is how old what a process knows of the workspace may be.
const refreshAfter = 3 * time.Second

// Workspace is what holds here, as this process knows it: another process's
// change is known within seconds where something is worked on.
func (e *Engine) Workspace() Workspace {
	if w := e.workspace.Load(); w != nil {
		return *w
	}
	return usualWorkspace()
}

// Zone is the workspace's time zone.
func (e *Engine) Zone() *time.Location {
	if z := e.zone.Load(); z != nil {
		return z
	}
	return e.Config.Zone
}

// readWorkspace reads what holds here.
func (e *Engine) readWorkspace(ctx context.Context) error {
	w := usualWorkspace()
	if _, err := e.Store.Setting(ctx, workspaceSetting, &w); err != nil {
		return fmt.Errorf("reading what holds in the workspace: %w", err)
	}
	e.knows(w)
	return nil
}

func (e *Engine) knows(w Workspace) {
	e.workspace.Store(&w)
	zone := e.Config.Zone
	if w.Zone != "" {
		if z, err := time.LoadLocation(w.Zone); err == nil { // checked when it was kept
			zone = z
		}
	}
	e.zone.Store(zone)
}

// SetWorkspace keeps what holds here. With another zone, scores whose days have
// moved are counted again.
func (e *Engine) SetWorkspace(ctx context.Context, w Workspace) error {
	w.Name = person.Name(w.Name)
	w.Address = strings.TrimSpace(strings.ReplaceAll(w.Address, "\r\n", "\n"))
	if w.Zone != "" {
		if _, err := time.LoadLocation(w.Zone); err != nil || w.Zone == "Local" {
			return plainly.Errorf("%q is no time zone, such as Europe/Oslo", w.Zone)
		}
	}
	if w.Currency = strings.ToUpper(strings.TrimSpace(w.Currency)); !pipeline.KnownCurrency(w.Currency) {
		return plainly.New("a currency is a code of three letters, such as EUR")
	}
	hours := calendar.OfficeHours(w.From, w.To)
	if err := hours.Check(); err != nil {
		return err
	}
	if len(w.Address) > 500 || strings.Count(w.Address, "\n") > 5 {
		return plainly.New("the sender’s address has at most six lines and 500 letters")
	}
	moved := w.Zone != e.Workspace().Zone
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.KeepSetting(ctx, workspaceSetting, w); err != nil {
			return err
		}
		if moved {
			return tx.CountAllAgain(ctx, e.Now())
		}
		return nil
	})
	if err == nil {
		e.knows(w)
		e.Nudge()
	}
	return err
}

// Errors of joining.
var (
	ErrBadKey   = plainly.New("this address does not let anybody in any more")
	ErrPassword = plainly.New("a password has at least 10 letters, and at most 200")
	ErrLast     = plainly.New("somebody has to stay admin: make another one first")
	ErrRole     = plainly.New("a role is marketer, rep, lead or admin")
)

func hashToken(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

// FirstAddress makes the address by which the first person becomes admin; empty
// where somebody works here already. It holds until it is used, or another is made.
func (e *Engine) FirstAddress(ctx context.Context) (string, error) {
	b, err := e.Store.Begun(ctx)
	if err != nil || b.Users > 0 {
		return "", err
	}
	there, err := e.Store.AnyUser(ctx)
	if err != nil || there { // all have left: that is not a first start
		return "", err
	}
	token := rand.Text()
	if err := e.Store.SetSetting(ctx, "first_key", hex.EncodeToString(hashToken(token))); err != nil {
		return "", err
	}
	return e.URL + "/first/" + token, nil
}

// IsFirstKey reports whether a token lets the first person in.
func (e *Engine) IsFirstKey(ctx context.Context, token string) (bool, error) {
	var key string
	there, err := e.Store.Setting(ctx, "first_key", &key)
	if err != nil || !there || key != hex.EncodeToString(hashToken(token)) {
		return false, err
	}
	users, err := e.Store.AnyUser(ctx)
	return !users, err
}

// Joining is somebody who is about to sign in for the first time.
type Joining struct{ Name, Email, Password string }

func (j *Joining) user(role string) (store.User, error) {
	u := store.User{Name: person.Name(j.Name), Role: role}
	if u.Name == "" {
		return u, plainly.New("say what you are called")
	}
	var err error
	if u.Email, err = person.Email(j.Email); err != nil {
		return u, err
	}
	if n := len([]rune(j.Password)); n < 10 || n > 200 {
		return u, ErrPassword
	}
	if role == "rep" {
		u.Capacity = usualCapacity
	}
	u.PasswordHash = password.Hash(j.Password)
	return u, nil
}

// usualCapacity is how many open handoffs a rep has room for where nobody says
// otherwise. Common practice, no source.
const usualCapacity = 10

// BeginAs makes the first user, an admin. The key lets in once.
func (e *Engine) BeginAs(ctx context.Context, token string, j Joining) (id int64, err error) {
	u, err := j.user("admin")
	if err != nil {
		return 0, err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		ok, err := tx.TakeFirstKey(ctx, hex.EncodeToString(hashToken(token)))
		if err != nil {
			return err
		}
		if !ok {
			return ErrBadKey
		}
		id, err = tx.NewUser(ctx, u, e.Now())
		return err
	})
	return id, err
}

// AddUser keeps a user whose password is set by whoever calls.
func (e *Engine) AddUser(ctx context.Context, u store.User) (id int64, err error) {
	if !slices.Contains(roles, u.Role) {
		return 0, ErrRole
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		id, err = tx.NewUser(ctx, u, e.Now())
		return err
	})
	return id, err
}

var roles = []string{"marketer", "rep", "lead", "admin"}

// inviteFor is how long an invitation holds.
const inviteFor = 7 * 24 * time.Hour

// Invite asks a colleague to join, by a letter. It answers the address that the
// letter names, and why the letter did not go out, so that whoever invites can
// pass the address on.
func (e *Engine) Invite(ctx context.Context, i store.Invitation, by store.User) (address string, letter, err error) {
	if i.Email, err = person.Email(i.Email); err != nil {
		return "", nil, err
	}
	if i.Name = person.Name(i.Name); i.Name == "" {
		return "", nil, plainly.New("say what they are called")
	}
	if !slices.Contains(roles, i.Role) {
		return "", nil, ErrRole
	}
	if _, err := e.Store.UserByEmail(ctx, i.Email); err == nil {
		return "", nil, plainly.Errorf("%w: somebody signs in as %s already", store.ErrTaken, i.Email)
	} else if !store.IsNotFound(err) {
		return "", nil, err
	}
	token := rand.Text()
	i.Made = e.Now()
	i.Until = i.Made.Add(inviteFor)
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		_, err := tx.Invite(ctx, i, hashToken(token), by.ID)
		return err
	})
	if err != nil {
		return "", nil, err
	}
	address = e.URL + "/join/" + token
	name := e.Workspace().Name
	if name == "" {
		name = "Ombak"
	}
	text := fmt.Sprintf("Hello %s,\n\n%s asks you to work with them in Ombak, for %s.\n\nSet your password here, within a week:\n%s\n",
		i.Name, by.Name, name, address)
	letter = e.sendPlain(ctx, by, i.Email, by.Name+" invites you to Ombak", text)
	return address, letter, nil
}

// InvitationBy finds an open invitation by the token of its address.
func (e *Engine) InvitationBy(ctx context.Context, token string) (store.Invitation, error) {
	return e.Store.InvitationBy(ctx, hashToken(token), e.Now())
}

// Join makes a user of whoever was invited. The address lets in once.
func (e *Engine) Join(ctx context.Context, token string, j Joining) (id int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		i, err := tx.TakeInvitation(ctx, hashToken(token), e.Now())
		if store.IsNotFound(err) {
			return ErrBadKey
		}
		if err != nil {
			return err
		}
		j.Email = i.Email
		if person.Name(j.Name) == "" {
			j.Name = i.Name
		}
		u, err := j.user(i.Role)
		if err != nil {
			return err
		}
		id, err = tx.NewUser(ctx, u, e.Now())
		return err
	})
	return id, err
}

// Uninvite takes an invitation back.
func (e *Engine) Uninvite(ctx context.Context, id int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveInvitation(ctx, id) })
}

// SetUser changes who somebody is here. One admin stays.
func (e *Engine) SetUser(ctx context.Context, u store.User) error {
	if u.Name = person.Name(u.Name); u.Name == "" {
		return plainly.New("a name cannot be empty")
	}
	if !slices.Contains(roles, u.Role) {
		return ErrRole
	}
	if u.Capacity < 0 || u.Capacity > 1000 {
		return plainly.New("room is a whole number from 0 to 1000")
	}
	if u.Phone = strings.TrimSpace(u.Phone); u.Phone != "" {
		phone, err := person.Phone(u.Phone, "")
		if err != nil {
			return err
		}
		u.Phone = phone
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := keepsAnAdmin(ctx, tx, u.ID, u.Role == "admin"); err != nil {
			return err
		}
		if err := tx.SetUser(ctx, u); err != nil {
			return err
		}
		return tx.Notify(ctx, "desk")
	})
}

// UserLeaves keeps that somebody no longer works here. What is theirs goes to
// another user, or to nobody (0).
func (e *Engine) UserLeaves(ctx context.Context, id, to int64) error {
	if id == to {
		return plainly.New("choose who gets what is theirs")
	}
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := keepsAnAdmin(ctx, tx, id, false); err != nil {
			return err
		}
		if to != 0 {
			if _, err := tx.RoleOf(ctx, to); err != nil {
				return err
			}
		}
		if err := tx.UserLeaves(ctx, id, to, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, "desk", "pipeline")
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

func keepsAnAdmin(ctx context.Context, tx store.Tx, id int64, stays bool) error {
	role, err := tx.RoleOf(ctx, id)
	if err != nil || role != "admin" || stays {
		return err
	}
	n, err := tx.Admins(ctx)
	if err == nil && n < 2 {
		err = ErrLast
	}
	return err
}

// KeepStage changes a stage of the pipeline, or keeps a new one (ID 0).
func (e *Engine) KeepStage(ctx context.Context, st pipeline.Stage) (id int64, err error) {
	if err := st.Check(); err != nil {
		return 0, err
	}
	err = e.changeStages(ctx, func(tx store.Tx) error {
		id, err = tx.KeepStage(ctx, st)
		return err
	})
	return id, err
}

// RemoveStage removes a stage in which no deal has been.
func (e *Engine) RemoveStage(ctx context.Context, id int64) error {
	return e.changeStages(ctx, func(tx store.Tx) error {
		n, err := tx.DealsIn(ctx, id)
		if err != nil {
			return err
		}
		if n > 0 {
			return plainly.New("deals are or were in this stage: it stays, and can be renamed")
		}
		return tx.RemoveStage(ctx, id)
	})
}

// MoveStage moves a stage up (−1) or down (1) in the order.
func (e *Engine) MoveStage(ctx context.Context, id int64, by int) error {
	return e.changeStages(ctx, func(tx store.Tx) error {
		list, err := tx.LockStages(ctx)
		if err != nil {
			return err
		}
		var ids []int64
		for _, s := range list {
			ids = append(ids, s.ID)
		}
		i := slices.Index(ids, id)
		j := i + by
		if i < 0 || j < 0 || j >= len(ids) {
			return nil
		}
		ids[i], ids[j] = ids[j], ids[i]
		return tx.OrderStages(ctx, ids)
	})
}

func (e *Engine) changeStages(ctx context.Context, f func(store.Tx) error) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if _, err := tx.LockStages(ctx); err != nil { // one after the other
			return err
		}
		if err := f(tx); err != nil {
			return err
		}
		list, err := tx.LockStages(ctx)
		if err != nil {
			return err
		}
		if len(list) > pipeline.MaxStages {
			return plainly.Errorf("a pipeline has at most %d stages", pipeline.MaxStages)
		}
		return tx.Notify(ctx, "pipeline")
	})
}

// UsualStages begins the pipeline with the stages many begin with, where there
// is none. Common practice, no source.
func (e *Engine) UsualStages(ctx context.Context) error {
	list, err := e.Store.Stages(ctx)
	if err != nil || len(list) > 0 {
		return err
	}
	for _, st := range []pipeline.Stage{{Name: "First talk", Share: 10}, {Name: "Need is clear", Share: 25}, {Name: "Trial", Share: 50},
		{Name: "Offer", Share: 75}, {Name: "Won", Share: 100, Won: true}, {Name: "Lost", Lost: true}} {
		if _, err := e.KeepStage(ctx, st); err != nil {
			return err
		}
	}
	return nil
}

// UsualModel begins scoring with points that many begin with, and a ready line,
// where there is no model. Common practice, no source.
func (e *Engine) UsualModel(ctx context.Context) error {
	if _, err := e.Store.Model(ctx); !store.IsNotFound(err) {
		return err
	}
	rule := func(k signal.Kind, points, lasts int) score.Rule {
		return score.Rule{On: signal.Pattern{Kind: k}, Points: points, Lasts: lasts}
	}
	return e.SaveModel(ctx, store.Model{Model: score.Model{Name: "Engagement", Line: 15, Rules: []score.Rule{
		rule(signal.PageView, 10, 30), rule(signal.Open, 1, 30), rule(signal.Click, 3, 30), rule(signal.Download, 5, 30),
		rule(signal.Reply, 15, 90), rule(signal.OptOut, -100, 0)}}})
}

// AddGround lets another ground be named by sequences.
func (e *Engine) AddGround(ctx context.Context, name string) error {
	if name = person.Name(name); name == "" || len(name) > 80 {
		return plainly.New("a ground has a name of at most 80 letters")
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.AddGround(ctx, name) })
}

// RemoveGround lets a ground be named no more. Sequences that were launched on
// it go on.
func (e *Engine) RemoveGround(ctx context.Context, name string) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveGround(ctx, name) })
}

// TestLetter sends a letter to a user by everybody's mail server, and keeps that
// it was taken.
func (e *Engine) TestLetter(ctx context.Context, to store.User) error {
	err := e.sendPlain(ctx, to, to.Email, "A test letter from Ombak", "This letter came from Ombak, by the mail server that everybody’s emails go out by.\n\nIf it lies among the junk, set the DNS records that Ombak shows under Mailboxes.\n")
	if err != nil {
		return err
	}
	w := e.Workspace()
	w.Tried = e.Now()
	return e.SetWorkspace(ctx, w)
}

// sendPlain sends one letter about Ombak itself.
func (e *Engine) sendPlain(ctx context.Context, from store.User, to, subject, text string) error {
	ways, err := e.mailers(ctx, []int64{from.ID})
	if err != nil {
		return err
	}
	way := e.Mail
	for _, w := range []Mailer{ways[0], ways[from.ID]} {
		if w != nil {
			way = w
		}
	}
	id := "o" + rand.Text() + "@" + e.Domain
	fate, err := way.Send(ctx, mail.Letter{ID: id, FromName: from.Name, From: from.Email, To: to, Subject: subject, Date: e.Now(),
		ReturnPath: from.Email, Text: text})
	if fate == mail.Taken {
		return nil
	}
	if err == nil {
		err = plainly.New("the mail server did not take it")
	}
	return err
}
