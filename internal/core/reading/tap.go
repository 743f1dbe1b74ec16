package reading

import (
	"bufio"
	"errors"
	"io"
	"regexp"
	"strings"

	"oskeld.dev/oskeld/internal/core/fault"
)

var tapLine = regexp.MustCompile(`^(not )?ok\b[ \t]*(\d+)?[ \t]*(?:- )?(.*)$`)

// tap reads the Test Anything Protocol, versions 12 to 14: a test a line, "ok 1 - name", what follows
// indented or as a comment belongs to it. Tests that the plan promised and that never came failed.
func tap(r *bufio.Reader) ([]Case, error) {
	var cases []Case
	planned := -1
	for {
		line, err := r.ReadString('\n')
		text := strings.TrimRight(line, "\r\n")
		m := tapLine.FindStringSubmatch(text)
		switch {
		case m != nil:
			if len(cases) == MostCases {
				return nil, fault.Invalid("the report has more than %d tests", MostCases)
			}
			cases = append(cases, tapCase(m[1] == "", m[2], m[3]))
		case strings.HasPrefix(text, "1.."):
			planned = 0
			for _, digit := range text[3:] {
				if digit < '0' || digit > '9' {
					break
				}
				planned = min(10*planned+int(digit-'0'), MostCases)
			}
		case strings.HasPrefix(text, "Bail out!"):
			cases = append(cases, Case{Name: "(bailed out)", Outcome: Failed, Message: cut(strings.TrimSpace(strings.TrimPrefix(text, "Bail out!")))})
		case len(cases) > 0 && cases[len(cases)-1].Outcome == Failed && (strings.HasPrefix(text, " ") || strings.HasPrefix(text, "#")):
			c := &cases[len(cases)-1]
			c.Message = cut(strings.TrimSpace(c.Message + "\n" + strings.TrimPrefix(text, "# ")))
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
	}
	if missing := planned - len(cases); planned >= 0 && missing > 0 {
		cases = append(cases, Case{Name: "(tests that never came)", Outcome: Failed, Message: "the plan promised more tests than ran"})
	}
	return cases, nil
}

func tapCase(ok bool, number, rest string) Case {
	name, directive, _ := strings.Cut(" "+rest, " # ")
	c := Case{Name: strings.TrimSpace(name), Outcome: Passed}
	if c.Name == "" {
		c.Name = "test " + number
	}
	word, why, _ := strings.Cut(strings.TrimSpace(directive), " ")
	switch word = strings.ToUpper(word); {
	case strings.HasPrefix(word, "SKIP"), strings.HasPrefix(word, "TODO"):
		c.Outcome, c.Message = Skipped, cut(why)
	case !ok:
		c.Outcome = Failed
	}
	return c
}
