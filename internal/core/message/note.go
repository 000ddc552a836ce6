package message

import "strings"

// Note is a plain text with merge fields, such as a card's or a note's, readied.
type Note struct {
	t     *template
	p     Program // for its signatures
	names []Field
}

// CompileNote readies a text for its readers. It fails as Compile does.
func CompileNote(src string, fields []Field) (*Note, error) {
	known := map[string]bool{}
	for _, f := range fields {
		known[f.Name] = true
	}
	ready, err := prepare(src, false, known)
	if err != nil {
		return nil, at("the text", err)
	}
	x := &Note{}
	if x.t, err = parse(ready); err != nil {
		return nil, at("the text", err)
	}
	for _, f := range fields {
		if strings.Contains(ready, f.Name) {
			x.names = append(x.names, f)
		}
	}
	return x, nil
}

// Names lists the merge fields that it names.
func (x *Note) Names() []Field { return x.names }

// Fill fills it in for one reader. A field without a value and a fallback is a *Missing.
func (x *Note) Fill(v Values) (string, error) { return x.t.fill(x.p.bindings(v)) }
