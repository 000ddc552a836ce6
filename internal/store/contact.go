package store

import (
	"context"

	"ombak/internal/core/contact"
)

// The rule of core/contact in SQL, over a person p. Each of these is one of its
// lines; a test holds them against the core.
const (
	optedOut = "p.opted_out_at is not null"
	bounced  = "p.bounced_at is not null"

	// mayEmail is that an email may go out on a ground other than consent.
	mayEmail = "(p.erased_at is null and p.email <> '' and not p.do_not_contact and p.opted_out_at is null and p.bounced_at is null)"
	mayCall  = "(p.erased_at is null and p.phone <> '' and not p.do_not_contact and p.opted_out_at is null)"
)

// agreedTo is that the person agreed to the purpose that an expression gives.
func agreedTo(purpose string) string {
	return "exists (select from consent x where x.person_id = p.id and x.purpose_id = " + purpose + " and x.current and x.given)"
}

// whyNoEmail is the reason why no email may go out to the person, null where one
// may: purpose is an expression for the consent that is its ground, null where
// the ground is another; request one for whether they asked for it.
func whyNoEmail(purpose, request string) string {
	return `case
		when p.erased_at is not null then '` + string(contact.Erased) + `'
		when p.email = '' then '` + string(contact.NoAddress) + `'
		when ` + request + ` then null
		when p.do_not_contact then '` + string(contact.DoNotContact) + `'
		when ` + optedOut + ` then '` + string(contact.OptedOut) + `'
		when ` + bounced + ` then '` + string(contact.Bounced) + `'
		when ` + purpose + ` is null or ` + agreedTo(purpose) + ` then null
		when exists (select from consent x where x.person_id = p.id and x.purpose_id = ` + purpose + ` and x.current)
			then '` + string(contact.TookBack) + `'
		else '` + string(contact.NoConsent) + `' end`
}

// WhyNoEmail asks the rule in SQL about one person: on consent to a purpose (0:
// on another ground), or on their own request.
func (s *Store) WhyNoEmail(ctx context.Context, person, purpose int64, request bool) (contact.Reason, error) {
	return one[contact.Reason](ctx, s.db, "select coalesce("+whyNoEmail("nullif($2::bigint, 0)", "$3::boolean")+`, '')
		from person p where p.id = $1`, person, purpose, request)
}

// Reachable lists who of some people could be reached by some channel.
func Reachable(ctx context.Context, q querier, people []int64) (map[int64]bool, error) {
	list, err := all[int64](ctx, q, "select p.id from person p where p.id = any ($1) and ("+mayEmail+" or "+mayCall+")", people)
	out := make(map[int64]bool, len(list))
	for _, id := range list {
		out[id] = true
	}
	return out, err
}
