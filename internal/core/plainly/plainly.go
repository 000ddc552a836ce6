// Package plainly has the one kind of error that users may read: a sentence without
// its first capital and its point, in plain words, about what they did. Whatever
// else goes wrong is not theirs to read: it is logged with its cause, and they are
// told that something went wrong.
package plainly

import (
	"errors"
	"fmt"
)

// Readable is an error that users may read. A type of error that carries more than
// its words says so by this method.
type Readable interface {
	error
	Plain()
}

type sentence struct {
	text  string
	cause error // nil: none
}

func (s *sentence) Error() string { return s.text }
func (s *sentence) Unwrap() error { return s.cause }
func (*sentence) Plain()          {}

// New is an error that says a text.
func New(text string) error { return &sentence{text: text} }

// Unsaid stands in a sentence for an error that users may not read.
const Unsaid = "it could not be done"

// Errorf is fmt.Errorf for an error that users may read. Of an error among its
// arguments it says what they may read of that; it stays its cause where it is
// given for %w.
func Errorf(format string, args ...any) error {
	said := make([]any, len(args))
	for i, a := range args {
		said[i] = a
		if err, ok := a.(error); ok {
			text, ok := Says(err)
			if !ok {
				text = Unsaid
			}
			said[i] = &sentence{text, err}
		}
	}
	err := fmt.Errorf(format, said...)
	return &sentence{err.Error(), errors.Unwrap(err)}
}

// Says is what users may read of an error: the words of the outermost that is
// Readable. false: nothing.
func Says(err error) (string, bool) {
	if r, ok := errors.AsType[Readable](err); ok {
		return r.Error(), true
	}
	return "", false
}
