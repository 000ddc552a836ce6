package setup

import (
	"context"
	"encoding/json"
	"fmt"
	"io"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
	"ombak/internal/mail"
	"ombak/internal/store"
)

// HolidayYears is how many years, from this one, are read of days that come again each year.
const HolidayYears = 3

// ReadHolidays reads the holidays of a calendar file (RFC 5545), as far as they are of this
// year and the ones after.
func (e *Setup) ReadHolidays(r io.Reader) ([]calendar.Holiday, error) {
	year := e.Now().In(e.Zone()).Year()
	return mail.ReadHolidays(r, year, year+HolidayYears-1)
}

// AddHolidays adds holidays to those of a country, and answers the change; what is a holiday
// already keeps its name.
func (e *Setup) AddHolidays(
	ctx context.Context, country string, list []calendar.Holiday, user int64,
) (change int64, err error) {
	return e.changeHolidays(ctx, country, user, func(was []calendar.Holiday) []calendar.Holiday {
		return append(was, list...)
	})
}

// RemoveHoliday takes a date from the holidays of a country; the zero date: all of them.
func (e *Setup) RemoveHoliday(
	ctx context.Context, country string, day calendar.Date, user int64,
) (change int64, err error) {
	return e.changeHolidays(ctx, country, user, func(was []calendar.Holiday) (is []calendar.Holiday) {
		for _, h := range was {
			if day != (calendar.Date{}) && h.Date != day {
				is = append(is, h)
			}
		}
		return is
	})
}

func (e *Setup) changeHolidays(
	ctx context.Context, country string, user int64, to func([]calendar.Holiday) []calendar.Holiday,
) (change int64, err error) {
	if !calendar.KnownCountry(country) {
		return 0, plainly.Errorf("%q is no country’s code, such as NO", country)
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		was, err := tx.HolidaysOf(ctx, country)
		if err != nil {
			return err
		}
		is, err := calendar.CheckHolidays(to(was[:len(was):len(was)]))
		if err != nil {
			return err
		}
		if err := tx.SetHolidays(ctx, country, is); err != nil {
			return err
		}
		change, err = e.changed(ctx, tx, user, store.SettingChange{Kind: ofHolidays, Key: country,
			Words: fmt.Sprintf("holidays of %s: %d, before %d", country, len(is), len(was))}, was, is)
		if err != nil {
			return err
		}
		return e.RestsChanged(ctx, tx)
	})
	if err == nil {
		err = e.ReadRests(ctx)
	}
	return change, err
}

func (e *Setup) restoreHolidays(ctx context.Context, tx store.Tx, c *store.SettingChange) (func(), error) {
	var was []calendar.Holiday
	if err := json.Unmarshal(c.Was, &was); err != nil {
		return nil, err
	}
	if err := tx.SetHolidays(ctx, c.Key, was); err != nil {
		return nil, err
	}
	// What this process knows of them is read again when it next looks.
	return func() { e.ForgetRests() }, e.RestsChanged(ctx, tx)
}
