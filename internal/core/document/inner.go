package document

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

// Inner is the place of length bytes from byte i on of a text's value, through quotes, escapes and
// line ends as they are written.
func (n *Node) Inner(text string, i, length int) Span {
	raw := text[n.At.Offset : n.At.Offset+n.At.Length]
	quote, escapes := opening(raw)
	if quote == 0 {
		return n.At
	}
	from := written(raw, quote, escapes, i)
	to := written(raw, quote, escapes, i+length)
	return Span{n.At.Offset + from, max(1, to-from)}
}

// opening is the length of what opens a text, and whether it knows escapes.
func opening(raw string) (length int, escapes bool) {
	switch {
	case strings.HasPrefix(raw, `"""`), strings.HasPrefix(raw, `'''`):
		length = 3
		if rest := raw[3:]; strings.HasPrefix(rest, "\n") {
			length++
		} else if strings.HasPrefix(rest, "\r\n") {
			length += 2
		}
	case strings.HasPrefix(raw, `"`), strings.HasPrefix(raw, `'`):
		length = 1
	}
	return length, raw != "" && raw[0] == '"'
}

// written gives the place in raw at which byte i of the value is written.
func written(raw string, at int, escapes bool, i int) int {
	for value := 0; value < i && at < len(raw); {
		if !escapes || raw[at] != '\\' || at+1 == len(raw) {
			at++
			value++
			continue
		}
		digits := map[byte]int{'x': 2, 'u': 4, 'U': 8}[raw[at+1]]
		rest := strings.TrimLeft(raw[at+1:], " \t\r\n")
		switch {
		case digits > 0:
			code, _ := strconv.ParseUint(raw[at+2:min(len(raw), at+2+digits)], 16, 32)
			value += utf8.RuneLen(rune(code))
			at += 2 + digits
		case len(rest) < len(raw)-at-1: // a line end that the backslash takes away, with what follows it
			at = len(raw) - len(rest)
		default:
			value++
			at += 2
		}
	}
	return min(at, len(raw))
}

// Quote gives a text as a basic string of TOML, quotes included.
func Quote(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < ' ' || r == 0x7f:
			b.WriteString(`\u00` + strconv.FormatInt(int64(r)+0x100, 16)[1:])
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}

// QuoteAll gives texts as an array of TOML.
func QuoteAll(texts []string) string {
	quoted := make([]string, len(texts))
	for i, text := range texts {
		quoted[i] = Quote(text)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}
