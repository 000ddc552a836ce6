package demo

import (
	"context"
	"fmt"

	"ombak/internal/core/act"
	"ombak/internal/core/mailing"
	"ombak/internal/store"
)

const clinicAudience = "Clinic and field guide"

// inviteToClinic sends the invitation to the clinic off, to those who agreed to
// marketing email, and leaves a reminder drafted.
func (d *Demo) inviteToClinic(ctx context.Context, m made, user int64) error {
	list, err := d.Store.Audiences(ctx)
	if err != nil {
		return err
	}
	var to, sales int64
	for _, a := range list {
		switch a.Name {
		case clinicAudience:
			to = a.ID
		case "Leave to sales":
			sales = a.ID
		}
	}
	if to == 0 || sales == 0 {
		return fmt.Errorf("the audiences of the invitation are not there")
	}
	purpose := int64(1)
	mail := store.Mailing{Name: "Clinic in May, invitation", Message: &m.clinic, Audience: &to, Purpose: &purpose}
	mail.Excluded.V = []int64{sales}
	mail.Plan.V = mailing.NewPlan()
	mail.Plan.V.Rest, mail.Plan.V.Tags.Campaign = 2, "clinic-may"
	mail.Acts.V = []mailing.LinkAct{{Link: 2, Act: act.Tag{Name: "clinic May"}}}
	id, err := d.Engine.SaveMailing(ctx, mail, user)
	if err != nil {
		return err
	}
	if err := d.Engine.LaunchMailing(ctx, id); err != nil {
		return err
	}
	mail.Name, mail.Acts.V = "Clinic in May, reminder", nil
	_, err = d.Engine.SaveMailing(ctx, mail, user)
	return err
}
