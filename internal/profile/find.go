package profile

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"strconv"
	"strings"
)

// mostSteps bounds an expression: matching goes, at the worst, through all of its steps for
// each byte of a page.
const mostSteps = 500

// Expression is what is looked for on a page for an outlet, and how many steps it has.
func Expression(find string, outlet int) (re *regexp.Regexp, steps int, err error) {
	text := strings.ReplaceAll(find, "{n}", strconv.Itoa(outlet))
	if re, err = regexp.Compile(text); err != nil {
		return nil, 0, err
	}
	parsed, err := syntax.Parse(text, syntax.Perl)
	if err != nil {
		return nil, 0, err
	}
	prog, err := syntax.Compile(parsed.Simplify())
	if err != nil {
		return nil, 0, err
	}
	if steps = len(prog.Inst); steps > mostSteps {
		return nil, steps, fmt.Errorf("has %d steps once its repetitions are written out, and %d are the most", steps, mostSteps)
	}
	return re, steps, nil
}

// expression checks one for every outlet that it is for: one that is sound with one number
// in it need not be so with another.
func (p *Profile) expression(find string) error {
	last := 1
	if p.Outlets != nil && strings.Contains(find, "{n}") {
		last = max(last, p.Outlets.Count)
	}
	for n := 1; n <= last; n++ {
		re, _, err := Expression(find, n)
		if err != nil {
			if last > 1 {
				return fmt.Errorf("find: for outlet %d: %w", n, err)
			}
			return fmt.Errorf("find: %w", err)
		}
		if re.NumSubexp() != 1 {
			return fmt.Errorf("find: it needs exactly one group ( ) around the value, and has %d", re.NumSubexp())
		}
	}
	return nil
}
