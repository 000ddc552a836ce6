package store

import (
	"fmt"
	"strings"
	"time"

	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// compiler writes a rule as SQL over the tables p (person), c (company) and o
// (owner). It means what rule.Holds means; a test holds them against each
// other. Every value goes in as an argument.
type compiler struct {
	now  time.Time
	args []any
}

func (c *compiler) arg(v any) string {
	c.args = append(c.args, v)
	return fmt.Sprintf("$%d", len(c.args))
}

// people is the condition of a list of people.
func (c *compiler) people(q PeopleQuery) string {
	where := c.rule(&q.Rule)
	if t := rule.Fold(q.Text); t != "" {
		like := c.arg("%" + likeText(t) + "%")
		where += fmt.Sprintf(" and (lower(p.first_name || ' ' || p.last_name) like %[1]s or p.email like %[1]s or lower(coalesce(c.name, '')) like %[1]s)", like)
	}
	return where
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

// column is the text of a field, never null.
func (c *compiler) column(f rule.Field) string {
	col := map[rule.Field]string{
		rule.FirstName: "p.first_name", rule.LastName: "p.last_name", rule.Email: "p.email", rule.Title: "p.title",
		rule.Country: "p.country", rule.City: "p.city", rule.Source: "p.source",
		rule.Company: "coalesce(c.name, '')", rule.Industry: "coalesce(c.industry, '')", rule.Owner: "coalesce(o.name, '')",
	}[f]
	if col == "" {
		return "''"
	}
	return "lower(btrim(" + col + "))"
}

func (c *compiler) condition(q *rule.Condition) string {
	switch {
	case q.Signal != nil:
		return c.compare(c.count(q.Signal, q.Days), q)
	case q.Score:
		return c.compare("coalesce((select st.score from standing st where st.person_id = p.id and st.model_id = (select min(id) from score_model)), 0)", q)
	}
	col := c.column(q.Field)
	switch q.Op {
	case rule.Known:
		return col + " <> ''"
	case rule.NotKnown:
		return col + " = ''"
	case rule.Is:
		return "(" + col + " = " + c.arg(rule.Fold(q.Value)) + " and " + col + " <> '')"
	case rule.IsNot:
		return col + " <> " + c.arg(rule.Fold(q.Value))
	case rule.Contains:
		return "(" + col + " like " + c.arg("%"+likeText(rule.Fold(q.Value))+"%") + " and " + col + " <> '')"
	case rule.StartsWith:
		return "(" + col + " like " + c.arg(likeText(rule.Fold(q.Value))+"%") + " and " + col + " <> '')"
	case rule.OneOf:
		values := make([]string, len(q.Values))
		for i, v := range q.Values {
			values[i] = rule.Fold(v)
		}
		return "(" + col + " = any (" + c.arg(values) + "::text[]) and " + col + " <> '')"
	}
	return "false"
}

func (c *compiler) count(p *signal.Pattern, days int) string {
	w := "sg.person_id = p.id and sg.kind = " + c.arg(int16(p.Kind)) + " and sg.at <= " + c.arg(c.now)
	if days > 0 {
		w += " and sg.at >= " + c.arg(signal.Within(c.now, days))
	}
	if !p.Machine {
		w += " and sg.machine = ''"
	}
	for _, x := range []struct {
		col string
		v   int64
	}{{"sequence_id", p.Sequence}, {"step", int64(p.Step)}, {"message_id", p.Message}, {"link", int64(p.Link)}, {"page_id", p.Page}} {
		if x.v != 0 {
			w += " and sg." + x.col + " = " + c.arg(x.v)
		}
	}
	return "(select count(*) from signal sg where " + w + ")"
}

func (c *compiler) compare(figure string, q *rule.Condition) string {
	switch q.Op {
	case rule.AtLeast:
		return figure + " >= " + c.arg(q.N)
	case rule.AtMost:
		return figure + " <= " + c.arg(q.N)
	case rule.Exactly:
		return figure + " = " + c.arg(q.N)
	}
	return "false"
}
