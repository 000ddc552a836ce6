package post

import (
	"context"

	"ombak/internal/core/message"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
)

// letter is what a message begins with that is made for a step.
const letter = `<div>Dear {{ person.first_name | default: &quot;reader&quot; }},</div><div><br></div><div><br></div>`

// MakePart makes what a step of a sequence's draft in state n is missing: a message, which
// is called as the step is, or another sequence. It answers what it made.
func (e *Post) MakePart(
	ctx context.Context, id int64, n int, step sequence.StepID, user int64,
) (what sequence.PartKind, made int64, err error) {
	draft, err := e.Store.Draft(ctx, id)
	if err != nil {
		return "", 0, err
	}
	for _, part := range draft.Plan.V.Parts() {
		if part.Step != step || part.ID != 0 {
			continue
		}
		name := draft.Plan.V.Step(step).About().Title
		switch what = part.What; what {
		case sequence.MessagePart:
			var doc message.Document
			doc.Style, doc.Event = message.Plain, draft.Plan.V.Event
			for _, k := range []message.Kind{message.Text, message.Signature} {
				if _, err = doc.Insert(k, doc.Last); err != nil {
					return "", 0, err
				}
			}
			doc.Sections[0].For[message.Else] = message.Content{Text: letter}
			made, err = e.NewMessage(ctx, name, doc, true, user)
		case sequence.SequencePart:
			made, err = e.AddSequence(ctx, name)
		default:
			return "", 0, plainly.New("this is written in the step itself")
		}
		if err != nil {
			return "", 0, err
		}
		_, err = e.EditPlan(ctx, id, n, sequence.SetPart{ID: step, What: what, Part: made})
		return what, made, err
	}
	return "", 0, plainly.New("nothing is missing there any more")
}
