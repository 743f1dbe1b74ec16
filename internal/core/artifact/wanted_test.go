package artifact

import "testing"

func TestWanted(t *testing.T) {
	versions := []string{"1.2.9", "1.3.0", "1.3.10", "1.3.9", "1.4.0-rc.1", "2.0.0", "nightly"}
	for text, want := range map[string]Version{
		"intake/nectar@^1.3": "1.3.10", "intake/nectar@~1.2": "1.2.9", "intake/nectar@>=1, <1.3.5": "1.3.0", "intake/nectar@1.3.x, <1.3.10": "1.3.9", "intake/nectar@>=3": "",
	} {
		w, err := ParseWanted(text)
		if err != nil || w.Range == "" || w.String() != text {
			t.Errorf("%s: %+v, %v", text, w, err)
			continue
		}
		if got, ok := w.Best(versions); got != want || ok != (want != "") {
			t.Errorf("%s: %q", text, got)
		}
	}
	for text, want := range map[string]Wanted{"intake/nectar@1.3.0": {Store: "intake", Name: "nectar", Version: "1.3.0"}, "shelf/hivebook:stable": {Store: "shelf", Name: "hivebook", Mark: "stable"}} {
		if w, err := ParseWanted(text); err != nil || w != want || w.String() != text {
			t.Errorf("%s: %+v, %v", text, w, err)
		}
	}
	for _, bad := range []string{"", "nectar", "intake/nectar", "intake/nectar@", "intake/nectar@^1.q", "intake/nectar@1.0.0#file", "../x@^1", "intake/@^1"} {
		if w, err := ParseWanted(bad); err == nil {
			t.Errorf("%q was taken: %+v", bad, w)
		}
	}
}
