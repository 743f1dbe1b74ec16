// Package logtext packs lines of a log into segments and back.
//
//	body := logtext.Pack(lines)
//	lines, err := logtext.Unpack(body, first)
//
// A segment is zstd over one record a line: step and milliseconds as decimal numbers, "1" for
// standard error, the text, each ended by a tab but the text by a line feed.
package logtext

import (
	"bytes"
	"strconv"
	"strings"
	"sync"

	"github.com/klauspost/compress/zstd"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
)

// MostRaw is the largest size of a segment before compression, in bytes.
const MostRaw = 8 << 20

var encoder = sync.OnceValue(func() *zstd.Encoder {
	e, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	return e
})

var decoder = sync.OnceValue(func() *zstd.Decoder {
	d, _ := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(MostRaw))
	return d
})

// Append adds a line's record to raw: step, milliseconds since the stage run began, whether it is from
// standard error, and the text, which must be UTF-8 and hold no line feed.
func Append(raw []byte, step int, ms int64, isError bool, text []byte) []byte {
	raw = strconv.AppendInt(raw, int64(step), 10)
	raw = append(raw, '\t')
	raw = strconv.AppendInt(raw, ms, 10)
	raw = append(raw, '\t')
	if isError {
		raw = append(raw, '1')
	}
	raw = append(raw, '\t')
	raw = append(raw, text...)
	return append(raw, '\n')
}

// Pack compresses records.
func Pack(raw []byte) []byte { return encoder().EncodeAll(raw, make([]byte, 0, len(raw)/4)) }

// Count tells how many lines a segment holds, each of them a whole record. Errors as of Unpack.
func Count(body []byte) (lines int, err error) {
	raw, err := decoder().DecodeAll(body, nil)
	if err != nil {
		return 0, fault.Invalid("the log segment cannot be unpacked: %v", err)
	}
	for record := range bytes.Lines(raw) {
		if !isRecord(record) {
			return 0, fault.Invalid("the log segment has a broken record")
		}
		lines++
	}
	return lines, nil
}

// isRecord tells whether a line reads "DIGITS\tDIGITS\tANY\t..." and is so short that the numbers can be read.
func isRecord(record []byte) bool {
	for range 2 {
		digits := bytes.IndexByte(record, '\t')
		if digits < 1 || digits > 15 {
			return false
		}
		for _, b := range record[:digits] {
			if b < '0' || b > '9' {
				return false
			}
		}
		record = record[digits+1:]
	}
	return bytes.IndexByte(record, '\t') >= 0
}

// Search gives the lines of a segment that hold a text, upper and lower case alike. Errors as of Unpack.
func Search(body []byte, first int64, text string) ([]view.LogLine, error) {
	raw, err := decoder().DecodeAll(body, nil)
	if err != nil {
		return nil, fault.Invalid("the log segment cannot be unpacked: %v", err)
	}
	wanted := bytes.ToLower([]byte(text))
	if !bytes.Contains(bytes.ToLower(raw), wanted) { // most segments, at the cost of one look
		return nil, nil
	}
	var found []view.LogLine
	for record := range bytes.Lines(raw) {
		if bytes.Contains(bytes.ToLower(record), wanted) {
			l, err := line(string(record), first)
			if err != nil {
				return nil, err
			}
			if bytes.Contains(bytes.ToLower([]byte(l.Text)), wanted) { // and not in what stands before it
				found = append(found, l)
			}
		}
		first++
	}
	return found, nil
}

// Unpack gives the lines of a segment whose first line has the number first. Errors are of kind
// invalid: a segment comes from an agent and may be anything.
func Unpack(body []byte, first int64) ([]view.LogLine, error) {
	raw, err := decoder().DecodeAll(body, nil)
	if err != nil {
		return nil, fault.Invalid("the log segment cannot be unpacked: %v", err)
	}
	lines := make([]view.LogLine, 0, bytes.Count(raw, []byte{'\n'}))
	for record := range strings.Lines(string(raw)) {
		l, err := line(record, first+int64(len(lines)))
		if err != nil {
			return nil, err
		}
		lines = append(lines, l)
	}
	return lines, nil
}

// line reads a line's record.
func line(record string, number int64) (view.LogLine, error) {
	f := strings.SplitN(strings.TrimSuffix(record, "\n"), "\t", 4)
	if len(f) != 4 {
		return view.LogLine{}, fault.Invalid("the log segment has a broken record")
	}
	step, err1 := strconv.Atoi(f[0])
	ms, err2 := strconv.ParseInt(f[1], 10, 64)
	if err1 != nil || err2 != nil {
		return view.LogLine{}, fault.Invalid("the log segment has a broken record")
	}
	return view.LogLine{Number: number, Step: step, MS: ms, Error: f[2] == "1", Text: f[3]}, nil
}
