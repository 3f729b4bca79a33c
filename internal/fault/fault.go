// Package fault has the errors of what somebody asked for, which every front tells in
// its own form.
package fault

import (
	"fmt"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/value"
)

// InputError says what is wrong with what somebody asked for.
type InputError struct{ Pointer, Message string }

func (e *InputError) Error() string { return e.Message }

// Input is an error of what stands at a pointer (RFC 6901), "" for the whole.
func Input(pointer, message string) *InputError { return &InputError{pointer, message} }

// Inputf is the same with a format.
func Inputf(pointer, format string, args ...any) *InputError {
	return &InputError{pointer, fmt.Sprintf(format, args...)}
}

// NotFoundError says that there is nothing of that name.
type NotFoundError struct{ What, ID string }

func (e *NotFoundError) Error() string { return fmt.Sprintf("there is no %s %s", e.What, e.ID) }

// NotFound is an error of a name that nothing has.
func NotFound(what, id string) *NotFoundError { return &NotFoundError{what, id} }

// MaxReason bounds a reason, in bytes.
const MaxReason = 1000

// CheckReason trims the reason of an act, and refuses one that says nothing.
func CheckReason(reason *string) error {
	if *reason = strings.TrimSpace(*reason); *reason == "" || len(*reason) > MaxReason {
		return &InputError{"/reason", fmt.Sprintf("a reason is needed, of at most %d bytes", MaxReason)}
	}
	return nil
}

// Moment reads a parameter that holds a moment (RFC 3339), 0 for none.
func Moment(param, text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	v, err := value.ParseTime(text)
	if err != nil {
		return 0, &QueryError{Param: param, Message: err.Error()}
	}
	return v.Num(), nil
}

// QueryError says what is wrong with a query.
type QueryError struct{ Param, Message, Excerpt string }

func (e *QueryError) Error() string { return e.Param + ": " + e.Message }

// Nearest suggests the known name that is most like another, in a clause to add; ""
// for none.
func Nearest(name string, known []string) string {
	if near := condition.Nearest(name, known); near != "" {
		return "; did you mean " + near + "?"
	}
	return ""
}
