package assignment

import (
	"bytes"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"oskeld.dev/oskeld/internal/core/fault"
)

func TestSegments(t *testing.T) {
	list := []Segment{{Run: 2, Seq: 7, First: 100, Lines: 3, Body: []byte("one\n{")}, {Run: 0, Seq: 1, First: 1, Lines: 1, Body: []byte{}}}
	var text bytes.Buffer
	if err := WriteSegments(&text, list); err != nil {
		t.Fatal(err)
	}
	got, err := ReadSegments(bytes.NewReader(text.Bytes()))
	if err != nil || !reflect.DeepEqual(got, list) {
		t.Errorf("%+v %v", got, err)
	}
	if got, err := ReadSegments(strings.NewReader("")); err != nil || len(got) != 0 {
		t.Errorf("%+v %v", got, err)
	}
	for end := range text.Len() - 1 { // broken off anywhere but between the two
		if got, err := ReadSegments(bytes.NewReader(text.Bytes()[:end+1])); err == nil && len(got) != 1 {
			t.Errorf("%d bytes are read as %+v", end+1, got)
		}
	}
	large := fmt.Sprintf(`{"bytes":%d}`+"\n", MostSegmentBytes) + strings.Repeat("x", MostSegmentBytes)
	if got, err := ReadSegments(strings.NewReader(large)); err != nil || len(got) != 1 {
		t.Error(len(got), err)
	}
	for _, bad := range []string{
		"x\n", `{"bytes":-1}` + "\n", `{"bytes":99999999999}` + "\n", large + `{"bytes":1}` + "\nx",
		strings.Repeat(`{"bytes":0}`+"\n", MostSegments+1), `{"bytes":0` + strings.Repeat(" ", 9000) + "}\n",
	} {
		if _, err := ReadSegments(strings.NewReader(bad)); !fault.Is(err, fault.KindInvalid) {
			t.Errorf("%.40q: %v", bad, err)
		}
	}
}

func FuzzReadSegments(f *testing.F) {
	f.Add([]byte(`{"run":1,"seq":2,"first":3,"lines":4,"bytes":5}` + "\n12345"))
	f.Fuzz(func(t *testing.T, text []byte) {
		list, err := ReadSegments(bytes.NewReader(text))
		if err != nil {
			return
		}
		var again bytes.Buffer
		if err := WriteSegments(&again, list); err != nil {
			t.Fatal(err)
		}
		if same, err := ReadSegments(&again); err != nil || !reflect.DeepEqual(same, list) {
			t.Errorf("%+v became %+v (%v)", list, same, err)
		}
	})
}
