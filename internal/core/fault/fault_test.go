package fault

import (
	"errors"
	"fmt"
	"io"
	"testing"
)

func TestFaults(t *testing.T) {
	err := fmt.Errorf("around: %w", Missing("no store %q", "shelf").On("store").Hint("oskeld store list").Because(io.EOF))
	e, ok := errors.AsType[*Error](err)
	if !ok || e.Kind != KindMissing || e.Field != "store" || e.Error() != `no store "shelf": oskeld store list` || !errors.Is(err, io.EOF) {
		t.Errorf("%+v", e)
	}
	if KindOf(err) != KindMissing || !Is(err, KindMissing) || Is(nil, KindInternal) || KindOf(io.EOF) != KindInternal {
		t.Error("kinds")
	}
	for kind, made := range map[Kind]*Error{KindInvalid: Invalid("x"), KindRefused: Refused("x"), KindConflict: Conflict("x"), KindUnavailable: Unavailable("x"), KindUnknown: Unknown("x")} {
		if made.Kind != kind || made.Error() != "x" {
			t.Errorf("%s: %+v", kind, made)
		}
	}
}
