package setup

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"ombak/internal/core/desk"
	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/engine/base"
	"ombak/internal/password"
	"ombak/internal/store"
)

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
func (e *Setup) FirstAddress(ctx context.Context) (string, error) {
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
func (e *Setup) IsFirstKey(ctx context.Context, token string) (bool, error) {
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

func (j *Joining) user(role right.Role) (store.User, error) {
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
	if role == right.Rep {
		u.Capacity = usualCapacity
	}
	u.PasswordHash = password.Hash(j.Password)
	return u, nil
}

// usualCapacity is how many open handoffs a rep has room for where nobody says
// otherwise. Common practice, no source.
const usualCapacity = 10

// BeginAs makes the first user, an admin. The key lets in once.
func (e *Setup) BeginAs(ctx context.Context, token string, j Joining) (id int64, err error) {
	u, err := j.user(right.Admin)
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
func (e *Setup) AddUser(ctx context.Context, u store.User) (id int64, err error) {
	if !u.Role.Known() {
		return 0, ErrRole
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		id, err = tx.NewUser(ctx, u, e.Now())
		return err
	})
	return id, err
}

// inviteFor is how long an invitation holds.
const inviteFor = 7 * 24 * time.Hour

// Invite asks a colleague to join, by a letter. It answers the address that the
// letter names, and why the letter did not go out, so that whoever invites can
// pass the address on.
func (e *Setup) Invite(ctx context.Context, i store.Invitation, by store.User) (address string, letter, err error) {
	if i.Email, err = person.Email(i.Email); err != nil {
		return "", nil, err
	}
	if i.Name = person.Name(i.Name); i.Name == "" {
		return "", nil, plainly.New("say what they are called")
	}
	if !i.Role.Known() {
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
	text := fmt.Sprintf("Hello %s,\n\n%s asks you to work with them in Ombak, for %s.\n\nSet your password here, "+
		"within a week:\n%s\n",
		i.Name, by.Name, name, address)
	letter = e.SendPlain(ctx, by, i.Email, by.Name+" invites you to Ombak", text)
	return address, letter, nil
}

// InvitationBy finds an open invitation by the token of its address.
func (e *Setup) InvitationBy(ctx context.Context, token string) (store.Invitation, error) {
	return e.Store.InvitationBy(ctx, hashToken(token), e.Now())
}

// Join makes a user of whoever was invited. The address lets in once.
func (e *Setup) Join(ctx context.Context, token string, j Joining) (id int64, err error) {
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
func (e *Setup) Uninvite(ctx context.Context, id int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveInvitation(ctx, id) })
}

// SetUser changes who somebody is here, and answers the change. One admin stays.
func (e *Setup) SetUser(ctx context.Context, u store.User, by int64) (change int64, err error) {
	if u.Name = person.Name(u.Name); u.Name == "" {
		return 0, plainly.New("a name cannot be empty")
	}
	if !u.Role.Known() {
		return 0, ErrRole
	}
	if u.Capacity < 0 || u.Capacity > 1000 {
		return 0, plainly.New("room is a whole number from 0 to 1000")
	}
	if u.Phone = strings.TrimSpace(u.Phone); u.Phone != "" {
		phone, err := person.Phone(u.Phone, "")
		if err != nil {
			return 0, err
		}
		u.Phone = phone
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := keepsAnAdmin(ctx, tx, u.ID, u.Role == right.Admin); err != nil {
			return err
		}
		was, err := tx.User(ctx, u.ID)
		if err != nil {
			return err
		}
		u.Work = was.Work
		if err := tx.SetUser(ctx, u); err != nil {
			return err
		}
		change, err = e.changed(ctx, tx, by, store.SettingChange{Kind: ofUser, Key: fmt.Sprint(u.ID), Words: u.Name},
			settingsOf(was), settingsOf(u))
		if err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk)
	})
	return change, err
}

// settingsOf is of a user what SetUser sets, and nothing else.
func settingsOf(u store.User) store.User {
	return store.User{ID: u.ID, Name: u.Name, Role: u.Role, Phone: u.Phone, Capacity: u.Capacity, Away: u.Away,
		Work: u.Work}
}

// SetWork changes when somebody works, and how much of each kind on a day; theirs to change, a
// lead's and an admin's. It answers the change.
func (e *Setup) SetWork(ctx context.Context, id int64, w desk.Worker, by int64) (change int64, err error) {
	if err := w.Check(); err != nil {
		return 0, err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := base.May(ctx, tx, by, &id); err != nil {
			return err
		}
		was, err := tx.User(ctx, id)
		if err != nil {
			return err
		}
		is := was
		is.Work.V = w
		if err := tx.SetUser(ctx, is); err != nil {
			return err
		}
		change, err = e.changed(ctx, tx, by, store.SettingChange{Kind: ofUser, Key: fmt.Sprint(id),
			Words: "when " + was.Name + " works"}, settingsOf(was), settingsOf(is))
		if err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk)
	})
	return change, err
}

// UserLeaves keeps that somebody no longer works here. What is theirs goes to
// another user, or to nobody (0).
func (e *Setup) UserLeaves(ctx context.Context, id, to int64) error {
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
		if err := tx.LetGo(ctx, id); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.AboutSomebody(), news.Pipeline)
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

func keepsAnAdmin(ctx context.Context, tx store.Tx, id int64, stays bool) error {
	role, err := tx.RoleOf(ctx, id)
	if err != nil || role != right.Admin || stays {
		return err
	}
	n, err := tx.Admins(ctx)
	if err == nil && n < 2 {
		err = ErrLast
	}
	return err
}
