package store

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
)

// compiler writes a rule as SQL over the tables p (person), c (company) and o
// (owner). It means what rule.Holds means; a test holds them against each
// other. Every value goes in as an argument.
//
// A condition about signals or scores can be asked in two ways: of each person
// in turn, which is fast for a few, or by finding all for whom it holds at
// once, which is fast for everybody. few chooses; the meaning is the same.
type compiler struct {
	now  time.Time
	cat  *rule.Catalogue
	few  bool
	args []any
}

// peopleTables are what compiled rules are about. A join that a rule does not
// use costs nothing: the planner leaves it out.
const peopleTables = " from person p left join company c on c.id = p.company_id left join app_user o on o.id = " +
	"p.owner_id "

func (c *compiler) arg(v any) string {
	c.args = append(c.args, v)
	return "$" + strconv.Itoa(len(c.args))
}

func likeText(s string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(s)
}

func (c *compiler) rule(r *rule.Rule) string {
	join := func(list []rule.Rule, with string) string {
		parts := make([]string, len(list))
		for i := range list {
			parts[i] = c.rule(&list[i])
		}
		return "(" + strings.Join(parts, with) + ")"
	}
	switch {
	case r.If != nil:
		return c.condition(r.If)
	case len(r.Any) > 0:
		return join(r.Any, " or ")
	case len(r.None) > 0:
		return "not " + join(r.None, " or ")
	case len(r.All) > 0:
		return join(r.All, " and ")
	}
	return "true"
}

// columns are where the fields of a record stand. The core has tidied what
// they hold: no text has outer spaces, codes are in one case.
var columns = map[rule.Field]string{
	person.FirstName: "p.first_name", person.LastName: "p.last_name", person.EmailField: "p.email",
	person.PhoneField: "p.phone",
	person.Title:      "p.title", person.Seniority: "p.seniority", person.Department: "p.department",
	person.Country: "p.country",
	person.Region:  "p.region", person.City: "p.city", person.Zone: "p.zone", person.Language: "p.language",
	person.Profile: "p.profile", person.Street: "p.street", person.Postcode: "p.postcode",
	person.Source: "p.source", person.Medium: "p.medium", person.Campaign: "p.campaign", person.Term: "p.term",
	person.Content: "p.content",
	person.Company: "coalesce(c.name, '')", person.Domain: "coalesce(c.domain, '')",
	person.Industry: "coalesce(c.industry, '')",
	person.Revenue:  "coalesce(c.revenue, '')", person.CompanyCountry: "coalesce(c.country, '')",
	person.Owner: "coalesce(o.name, '')",
}

func (c *compiler) condition(q *rule.Condition) string {
	switch {
	case q.Signal != nil:
		return c.counted(q)
	case q.Score:
		return c.score(q, q.Op)
	case q.About != "":
		return c.about(q)
	}
	d, _ := c.cat.Define(q.Field)
	own, isOwn := q.Field.OwnID()
	raw := ""
	where := "p.own"
	if d.Company {
		where = "c.own"
	}
	if isOwn {
		raw = where + "->>'" + strconv.FormatInt(own, 10) + "'"
	}
	switch {
	case d.Type == person.Date:
		col := "p.created_at"
		if isOwn {
			col = "(" + raw + ")::date::timestamptz"
		}
		return c.dated(col, q)
	case d.Type == person.Number:
		col := "nullif(c.size, 0)"
		if isOwn {
			col = "(" + raw + ")::float8"
		}
		return c.numbered(col, q)
	case d.Type == person.SeveralOf:
		return c.several(where+"->'"+strconv.FormatInt(own, 10)+"'", q)
	case isOwn:
		return c.text("coalesce("+raw+", '')", true, q)
	}
	col := columns[q.Field]
	if col == "" {
		return "false"
	}
	switch d.Type {
	case person.CountryType:
		up := *q
		up.Value, up.Values = strings.ToUpper(q.Value), nil
		for _, v := range q.Values {
			up.Values = append(up.Values, strings.ToUpper(v))
		}
		return c.text(col, false, &up)
	case person.EmailType, person.PhoneType:
		low := *q
		low.Value, low.Values = strings.ToLower(q.Value), nil
		for _, v := range q.Values {
			low.Values = append(low.Values, strings.ToLower(v))
		}
		return c.text(col, false, &low)
	}
	return c.text(col, true, q)
}

// text compares a column that is never null; fold lowers both sides.
func (c *compiler) text(col string, fold bool, q *rule.Condition) string {
	value := func(v string) string {
		if fold {
			return rule.Fold(v)
		}
		return strings.TrimSpace(v)
	}
	plain := col
	if fold {
		col = "lower(" + col + ")"
	}
	// Nothing is known where the text is empty, and that compares with nothing.
	switch q.Op {
	case rule.Known:
		return plain + " <> ''"
	case rule.NotKnown:
		return plain + " = ''"
	case rule.Is:
		if value(q.Value) == "" {
			return "false"
		}
		return col + " = " + c.arg(value(q.Value))
	case rule.IsNot:
		return col + " <> " + c.arg(value(q.Value))
	case rule.Contains:
		return "(" + col + " like " + c.arg("%"+likeText(value(q.Value))+"%") + " and " + plain + " <> '')"
	case rule.StartsWith:
		return "(" + col + " like " + c.arg(likeText(value(q.Value))+"%") + " and " + plain + " <> '')"
	case rule.OneOf:
		values := []string{} // with none left it is false, and not unknown
		for _, v := range q.Values {
			if v = value(v); v != "" {
				values = append(values, v)
			}
		}
		return col + " = any (" + c.arg(values) + "::text[])"
	}
	return "false"
}

func (c *compiler) numbered(col string, q *rule.Condition) string {
	number := func(s string) string {
		f, err := strconv.ParseFloat(s, 64)
		if err == nil && (math.IsNaN(f) || math.IsInf(f, 0)) {
			err = strconv.ErrSyntax // in SQL, NaN would be equal to itself and above all others
		}
		if err != nil {
			return "null"
		}
		return c.arg(f) + "::float8"
	}
	switch q.Op {
	case rule.Known:
		return col + " is not null"
	case rule.NotKnown:
		return col + " is null"
	case rule.AtLeast:
		return "coalesce(" + col + " >= " + number(q.Value) + ", false)"
	case rule.AtMost:
		return "coalesce(" + col + " <= " + number(q.Value) + ", false)"
	case rule.Exactly:
		return "coalesce(" + col + " = " + number(q.Value) + ", false)"
	case rule.Between:
		return "coalesce(" + col + " between " + number(q.From) + " and " + number(q.To) + ", false)"
	}
	return "false"
}

func (c *compiler) dated(col string, q *rule.Condition) string {
	switch q.Op {
	case rule.Known:
		return col + " is not null"
	case rule.NotKnown:
		return col + " is null"
	}
	from, to, ok := q.Interval(c.now)
	if !ok {
		return "false"
	}
	var parts []string
	if !from.IsZero() {
		parts = append(parts, col+" >= "+c.arg(from))
	}
	if !to.IsZero() {
		parts = append(parts, col+" < "+c.arg(to))
	}
	return "coalesce(" + strings.Join(parts, " and ") + ", false)"
}

func (c *compiler) several(col string, q *rule.Condition) string {
	has := func(values []string) string {
		return "exists (select from jsonb_array_elements_text(case when jsonb_typeof(" + col + ") = 'array' then " +
			col + " else '[]' end) as e(v) where lower(e.v) = any (" + c.arg(values) + "::text[]))"
	}
	known := "coalesce(jsonb_array_length(case when jsonb_typeof(" + col + ") = 'array' then " + col +
		" end) > 0, false)"
	switch q.Op {
	case rule.Known:
		return known
	case rule.NotKnown:
		return "not " + known
	case rule.Is:
		return has([]string{rule.Fold(q.Value)})
	case rule.IsNot:
		return "not " + has([]string{rule.Fold(q.Value)})
	case rule.OneOf:
		values := make([]string, len(q.Values))
		for i, v := range q.Values {
			values[i] = rule.Fold(v)
		}
		return has(values)
	}
	return "false"
}

// signals is the condition on the rows of signal sg that a count is of.
func (c *compiler) signals(q *rule.Condition) string {
	p := q.Signal
	w := "sg.kind = " + strconv.Itoa(int(p.Kind)) + " and sg.at <= " + c.arg(q.Until(c.now))
	if from := q.Since(c.now); !from.IsZero() {
		w += " and sg.at >= " + c.arg(from)
	}
	if !p.Machine {
		w += " and sg.machine = ''"
	}
	for _, x := range []struct {
		col string
		v   int64
	}{{"sequence_id", p.Sequence}, {"step", int64(p.Step)}, {"message_id", p.Message}, {"link", int64(p.Link)},
		{"page_id", p.Page}, {"event_id", p.Event}} {
		if x.v != 0 {
			w += " and sg." + x.col + " = " + c.arg(x.v)
		}
	}
	return w
}

func (c *compiler) counted(q *rule.Condition) string {
	if q.Op == rule.AtLeast && q.N == 0 {
		return "true" // before its values are written down: the database asks what each is for
	}
	where := c.signals(q)
	if c.few {
		if q.Op == rule.AtLeast && q.N == 1 {
			return "exists (select from signal sg where sg.person_id = p.id and " + where + ")"
		}
		return c.compare("(select count(*) from signal sg where sg.person_id = p.id and "+where+")", q)
	}
	one := "select sg.person_id from signal sg where " + where
	switch {
	case q.Op == rule.AtLeast && q.N == 1:
		return "p.id in (" + one + ")"
	case (q.Op == rule.AtMost || q.Op == rule.Exactly) && q.N == 0:
		return "not exists (select from signal sg where sg.person_id = p.id and " + where + ")"
	}
	// Whoever has none is in no group: where none would do, those are looked
	// for with whom it does not hold.
	if fits(q, 0) {
		return "not exists (select from (" + one + " group by 1 having not (" + c.compare("count(*)", q) +
			")) x where x.person_id = p.id)"
	}
	return "p.id in (" + one + " group by 1 having " + c.compare("count(*)", q) + ")"
}

// fits reports whether a figure meets the condition.
func fits(q *rule.Condition, n float64) bool {
	low, high := float64(q.N), float64(q.M)
	switch q.Op {
	case rule.AtLeast:
		return n >= low
	case rule.AtMost:
		return n <= low
	case rule.Exactly:
		return n == low
	case rule.Between:
		return n >= low && n <= high
	}
	return false
}

// endOfWay is what the step is called at which a way x ended.
const endOfWay = `
	select s->>'title'
	from sequence_version v, jsonb_array_elements(v.plan->'steps') s
	where v.id = x.version_id and (s->>'id')::int = x.step`

// finishedReasons are those of a way that came to its end.
var finishedReasons = []string{string(sequence.Finished), string(sequence.HandedOver), string(sequence.WentOn)}

func finished(reason string) bool { return slices.Contains(finishedReasons, reason) }

// theModel is the first, which is never removed.
const theModel = "(select min(id) from score_model)"

// firstScore is the score of a person p by the first model.
const firstScore = `coalesce(
			(select st.score from standing st where st.person_id = p.id and st.model_id = ` + theModel + `), 0)`

// standingOf finds the standing of which a condition asks.
func (c *compiler) standingOf(q *rule.Condition) string {
	if q.Model == 0 {
		return "standing st where st.model_id = " + theModel
	}
	return "standing st where st.model_id = (select id from score_model where removed_at is null and id = " +
		c.arg(q.Model) + ")"
}

// figureOf is what of a standing a condition asks for.
func (c *compiler) figureOf(q *rule.Condition) string {
	if q.Rule == 0 {
		return "st.score"
	}
	return "coalesce((st.parts->>" + c.arg(strconv.FormatInt(q.Rule, 10)) + "::text)::float8, 0)"
}

func (c *compiler) score(q *rule.Condition, op rule.Op) string {
	if c.few {
		return c.compare(c.ownFigure(q), q)
	}
	rows := "select st.person_id from " + c.standingOf(q) + " and "
	if fits(q, 0) {
		return "p.id not in (" + rows + "not (" + c.compare(c.figureOf(q), q) + "))"
	}
	return "p.id in (" + rows + c.compare(c.figureOf(q), q) + ")"
}

// ownFigure is what one person p has of what a condition asks for.
func (c *compiler) ownFigure(q *rule.Condition) string {
	figure := c.figureOf(q)
	return "coalesce((select " + figure + " from " + c.standingOf(q) + " and st.person_id = p.id), 0)"
}

func (c *compiler) about(q *rule.Condition) string {
	exists := func(from string) string { return "exists (select from " + from + ")" }
	yes := ""
	switch q.About {
	case rule.Tag:
		yes = exists("person_tag x where x.person_id = p.id and x.tag_id = " + c.arg(q.ID))
	case rule.Audience:
		yes = exists("audience_member x where x.person_id = p.id and x.audience_id = " + c.arg(q.ID))
	case rule.Consent:
		yes = exists("consent x where x.person_id = p.id and x.current and x.given and x.purpose_id = " + c.arg(q.ID))
	case rule.InSequence:
		w := "enrolment x where x.person_id = p.id and x.sequence_id = " + c.arg(q.ID)
		switch q.Op {
		case rule.Is, rule.IsNot:
			w += " and x.ended_at is null"
		case rule.Finished:
			w += " and x.ended_at is not null and x.reason = any (" + c.arg(finishedReasons) + "::text[])"
			if q.Value != "" {
				w += " and lower(btrim((" + endOfWay + "))) = " + c.arg(rule.Fold(q.Value))
			}
		}
		yes = exists(w)
	case rule.Deal:
		yes = exists("deal_of x where x.person_id = p.id and x.closed_at is null")
	case rule.Stage:
		yes = exists("deal_of x where x.person_id = p.id and x.closed_at is null and x.stage_id = " + c.arg(q.ID))
	case rule.Lost, rule.Won:
		w := "deal_of x join stage st on st.id = x.stage_id where x.person_id = p.id and st." +
			map[rule.Thing]string{rule.Lost: "lost", rule.Won: "won"}[q.About] + " and x.closed_at <= " + c.arg(c.now)
		if q.Op == rule.Within {
			w += " and x.closed_at >= " + c.arg(signal.Within(c.now, q.Days))
		}
		yes = exists(w)
	case rule.AtEvent:
		state := "x.state <> 'cancelled'"
		switch q.Op {
		case rule.CameTo:
			state = "x.state = 'came'"
		case rule.AwayFrom:
			state = "x.state = 'stayed away'"
		}
		yes = exists("attendance x where x.person_id = p.id and x.current and " + state + " and x.event_id = " +
			c.arg(q.ID))
	case rule.InBand:
		in := c.few
		c.few = true // a range of two ends is one look at the standing
		yes = c.inBand(c.ownFigure(q), q)
		c.few = in
	case rule.ByFit:
		return c.compare(c.fit(c.fitOf(q)), q)
	case rule.InFitBand:
		yes = c.inBand(c.fit(c.fitOf(q)), q)
	case rule.DealFrom, rule.DealOf:
		w := "deal_of x where x.person_id = p.id and "
		if q.About == rule.DealOf {
			w += "lower(btrim(x.campaign)) = " + c.arg(rule.Fold(q.Value))
		} else {
			w += "x.sequence_id = " + c.arg(q.ID)
		}
		if q.Op == rule.Is || q.Op == rule.IsNot {
			w += " and x.closed_at is null"
		}
		yes = exists(w)
	default:
		return "false"
	}
	if q.Op == rule.IsNot || q.Op == rule.WasNot || q.Op == rule.Never {
		return "not " + yes
	}
	return yes
}

func (c *compiler) inBand(figure string, q *rule.Condition) string {
	if q.M == 0 {
		return "(" + figure + " >= " + c.arg(q.N) + ")"
	}
	return "(" + figure + " >= " + c.arg(q.N) + " and " + figure + " < " + c.arg(q.M) + ")"
}

// fitOf is what makes the fit of which a condition asks.
func (c *compiler) fitOf(q *rule.Condition) rule.Fit {
	m, _ := c.cat.Scored(q.Model)
	return m.Fit
}

// fit is the share that rule.Fit.Of gives.
func (c *compiler) fit(f rule.Fit) string {
	if f.Most() == 0 {
		return "0"
	}
	var parts []string
	for i := range f {
		parts = append(parts, "case when "+c.rule(&f[i].If)+" then "+strconv.Itoa(f[i].Points)+" else 0 end")
	}
	return "(greatest(" + strings.Join(parts, " + ") + ", 0) * 100 / " + strconv.Itoa(f.Most()) + ")"
}

func (c *compiler) compare(figure string, q *rule.Condition) string {
	switch q.Op {
	case rule.AtLeast:
		return figure + " >= " + c.arg(q.N)
	case rule.AtMost:
		return figure + " <= " + c.arg(q.N)
	case rule.Exactly:
		return figure + " = " + c.arg(q.N)
	case rule.Between:
		return figure + " between " + c.arg(q.N) + " and " + c.arg(q.M)
	}
	return "false"
}

// asksOf names what a change of can change a rule's answer, as the triggers
// that tell audiences name it.
func asksOf(r *rule.Rule) []string {
	seen := map[string]bool{}
	var out []string
	add := func(list ...string) {
		for _, s := range list {
			if !seen[s] {
				seen[s] = true
				out = append(out, s)
			}
		}
	}
	add("record") // whoever is new is asked about whatever the rule says
	r.Each(func(q *rule.Condition) {
		d, _ := person.Define(q.Field)
		switch {
		case q.Signal != nil:
			add("signal")
		case q.Score, q.About == rule.InBand:
			add("score")
		case q.About == rule.ByFit, q.About == rule.InFitBand:
			add("company", "fit") // the fit itself has no trigger: who saves it tells
		case q.About == rule.Tag:
			add("tag")
		case q.About == rule.Audience:
			add("audience")
		case q.About == rule.Consent:
			add("consent")
		case q.About == rule.InSequence:
			add("sequence")
		case q.About == rule.AtEvent:
			add("event")
		case q.About != "":
			add("deal")
		default:
			if _, own := q.Field.OwnID(); own || d.Company {
				add("company") // an own field may be the company's
			}
		}
	})
	return out
}

// movers is the SQL that finds whom the passing of time alone, after from and
// up to to, can have moved in or out of a rule, each with the last instant at
// which it can have: (person_id, at).
func (c *compiler) movers(r *rule.Rule, from, to time.Time) string {
	var parts []string
	for _, q := range r.Moves() {
		shift := time.Duration(q.Days) * 24 * time.Hour
		// At at + days·24 h a row still counts; a microsecond later it does not.
		low, high := c.arg(from.Add(-shift-time.Microsecond)), c.arg(to.Add(-shift))
		gap := c.arg(fmt.Sprintf("%d hours", q.Days*24)) + "::interval + interval '1 microsecond'"
		switch {
		case q.Signal != nil:
			w := "sg.kind = " + strconv.Itoa(int(q.Signal.Kind)) + " and sg.at >= " + low + " and sg.at <= " + high
			if !q.Signal.Machine {
				w += " and sg.machine = ''"
			}
			parts = append(parts, "select sg.person_id, sg.at + "+gap+" as at from signal sg where "+w)
		case q.About == rule.Lost || q.About == rule.Won:
			parts = append(parts,
				"select x.person_id, x.closed_at + "+gap+" from deal_of x where x.closed_at >= "+low+
					" and x.closed_at <= "+high)
		case q.Field == person.Created:
			parts = append(parts,
				"select p.id, p.created_at + "+gap+" from person p where p.created_at >= "+low+" and p.created_at <= "+
					high)
		default:
			own, ok := q.Field.OwnID()
			if !ok {
				continue
			}
			of, people := "p", "person p"
			if d, _ := c.cat.Define(q.Field); d.Company {
				of, people = "k", "person p join company k on k.id = p.company_id"
			}
			col := "(" + of + ".own->>'" + strconv.FormatInt(own, 10) + "')::date::timestamptz"
			// A day begins to lie within the last days when it comes, and stops after them.
			parts = append(parts,
				"select p.id, "+col+" + "+gap+" from "+people+" where "+col+" >= "+low+" and "+col+" <= "+high,
				"select p.id, "+col+" from "+people+" where "+col+" >= "+c.arg(from)+" and "+col+" <= "+c.arg(to))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "select person_id, max(at) as at from (" + strings.Join(parts, " union all ") +
		") m(person_id, at) group by 1"
}
