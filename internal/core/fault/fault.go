// Package fault is the one shape of an error that a person is meant to read:
// what kind it is, what happened to which thing, and what to do next.
//
//	return fault.Missing("no store %q", name).Hint("oskeld store list shows those there are")
//
// It is made where the cause is known and shown once, at the edge.
package fault

import (
	"errors"
	"fmt"
)

// Kind sorts faults by what the asker can do about them.
type Kind string

const (
	KindInvalid     Kind = "invalid"     // the request itself is wrong
	KindMissing     Kind = "missing"     // the thing named is not there
	KindRefused     Kind = "refused"     // a rule, right or quota says no
	KindConflict    Kind = "conflict"    // it clashes with what is there
	KindUnavailable Kind = "unavailable" // something needed does not answer now
	KindUnknown     Kind = "unknown"     // who asks is not known: sign in first
	KindInternal    Kind = "internal"    // ours to mend
)

// Error is a fault. Field names the part of the request it is about, if one is.
type Error struct {
	Kind    Kind
	Message string
	Field   string
	Advice  string
	cause   error
}

func (e *Error) Error() string {
	if e.Advice == "" {
		return e.Message
	}
	return e.Message + ": " + e.Advice
}

func (e *Error) Unwrap() error { return e.cause }

// Hint adds the next step.
func (e *Error) Hint(format string, args ...any) *Error {
	e.Advice = fmt.Sprintf(format, args...)
	return e
}

// On names the field of the request that is at fault.
func (e *Error) On(field string) *Error { e.Field = field; return e }

// Because keeps the error underneath for logs and errors.Is.
func (e *Error) Because(err error) *Error { e.cause = err; return e }

func make(kind Kind, format string, args []any) *Error {
	return &Error{Kind: kind, Message: fmt.Sprintf(format, args...)}
}

// Invalid, Missing, Refused, Conflict, Unavailable and Unknown make a fault of their kind.
func Invalid(format string, args ...any) *Error     { return make(KindInvalid, format, args) }
func Missing(format string, args ...any) *Error     { return make(KindMissing, format, args) }
func Refused(format string, args ...any) *Error     { return make(KindRefused, format, args) }
func Conflict(format string, args ...any) *Error    { return make(KindConflict, format, args) }
func Unavailable(format string, args ...any) *Error { return make(KindUnavailable, format, args) }
func Unknown(format string, args ...any) *Error     { return make(KindUnknown, format, args) }

// KindOf is the kind of the first fault in err's chain, internal when there is none.
func KindOf(err error) Kind {
	if e, ok := errors.AsType[*Error](err); ok {
		return e.Kind
	}
	return KindInternal
}

// Is tells whether err is a fault of that kind.
func Is(err error, kind Kind) bool { return err != nil && KindOf(err) == kind }
