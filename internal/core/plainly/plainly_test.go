package plainly

import (
	"errors"
	"fmt"
	"io"
	"testing"
)

type fault struct{ at int }

func (f *fault) Error() string { return fmt.Sprintf("line %d cannot be read", f.at) }
func (f *fault) Plain()        {}

func TestSays(t *testing.T) {
	taken := New("the name is taken")
	for _, c := range []struct {
		name string
		err  error
		says string
		is   error
	}{
		{"a sentence", taken, "the name is taken", taken},
		{"within another error", fmt.Errorf("insert into person: %w", taken), "the name is taken", taken},
		{"a type of its own", fmt.Errorf("reading: %w", &fault{3}), "line 3 cannot be read", nil},
		{"a sentence about a sentence", Errorf("“%s”: %w", "Alarms", taken), "“Alarms”: the name is taken", taken},
		{"a sentence about something else", Errorf("the file: %w", io.ErrUnexpectedEOF),
			"the file: it could not be done", io.ErrUnexpectedEOF},
		{"a sentence about what lies deeper", Errorf("the file: %w", fmt.Errorf("pq: %w", &fault{1})),
			"the file: line 1 cannot be read", nil},
		{"an error as a mere value", Errorf("the file: %v", io.EOF), "the file: it could not be done", nil},
		{"joined", errors.Join(io.EOF, taken), "the name is taken", io.EOF},
		{"no sentence", fmt.Errorf("select: %w", io.EOF), "", io.EOF},
		{"none", nil, "", nil},
	} {
		says, ok := Says(c.err)
		if says != c.says || ok != (c.says != "") {
			t.Errorf("%s says %q, %v; want %q", c.name, says, ok, c.says)
		}
		if c.is != nil && !errors.Is(c.err, c.is) {
			t.Errorf("%s has lost its cause", c.name)
		}
	}
}
