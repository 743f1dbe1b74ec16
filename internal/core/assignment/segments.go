package assignment

import (
	"bufio"
	"encoding/json"
	"errors"
	"io"

	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/logtext"
)

// Segment is a piece of a stage run's log: Lines lines from number First on, packed by logtext. Seq counts a
// log's segments from 1.
type Segment struct {
	Run   int    `json:"run"`
	Seq   int64  `json:"seq"`
	First int64  `json:"first"`
	Lines int    `json:"lines"`
	Body  []byte `json:"-"`
}

// Of segments that are sent at once there are at most so many, and so many bytes of bodies unless there is
// only one.
const (
	MostSegments     = 64
	MostSegmentBytes = 1 << 20
)

type segmentHead struct {
	Segment
	Bytes int `json:"bytes"`
}

// WriteSegments writes segments, each as its head in a line of JSON and then its body.
func WriteSegments(w io.Writer, list []Segment) error {
	heads := json.NewEncoder(w)
	for _, s := range list {
		if err := heads.Encode(segmentHead{s, len(s.Body)}); err != nil {
			return err
		}
		if _, err := w.Write(s.Body); err != nil {
			return err
		}
	}
	return nil
}

// ReadSegments reads what WriteSegments wrote, to the end. Errors are of kind invalid.
func ReadSegments(r io.Reader) ([]Segment, error) {
	from := bufio.NewReader(r)
	var list []Segment
	for bytes := 0; ; {
		line, err := from.ReadSlice('\n')
		if errors.Is(err, io.EOF) && len(line) == 0 {
			return list, nil
		}
		var head segmentHead
		if err == nil {
			err = json.Unmarshal(line, &head)
		}
		if err != nil {
			return nil, fault.Invalid("the head of segment %d cannot be read", len(list)+1).Because(err)
		}
		bytes += head.Bytes
		if head.Bytes < 0 || head.Bytes > logtext.MostRaw || len(list) == MostSegments || bytes > MostSegmentBytes && len(list) > 0 {
			return nil, fault.Invalid("segment %d of %d bytes is more than may be sent at once", len(list)+1, head.Bytes)
		}
		head.Body = make([]byte, head.Bytes)
		if _, err := io.ReadFull(from, head.Body); err != nil {
			return nil, fault.Invalid("segment %d broke off", len(list)+1).Because(err)
		}
		list = append(list, head.Segment)
	}
}
