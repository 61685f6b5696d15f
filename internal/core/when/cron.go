package when

import (
	"slices"
	"strconv"
	"strings"
	"time"
)

// cronField is one of the five fields; names stand for numbers from least on.
type cronField struct {
	name        string
	least, most int
	names       []string
}

var cronFields = []cronField{
	{"minute", 0, 59, nil}, {"hour", 0, 23, nil}, {"day of the month", 1, 31, nil},
	{"month", 1, 12, []string{"jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"}},
	{"weekday", 0, 7, shortDays},
}

// readCron reads "cron" and five fields, as crontab(5) has them: where both a day of the month and a weekday are given,
// either will do.
func (s *Schedule) readCron(p *parser) error {
	p.next()
	var sets [5][]int
	var open [5]bool
	for i, f := range cronFields {
		w := p.next()
		if w.text == "" {
			return p.bad(w, "five fields are expected: minute, hour, day of the month, month, weekday; the "+f.name+" is missing")
		}
		var err error
		if sets[i], err = p.cronField(w, f); err != nil {
			return err
		}
		open[i] = strings.HasPrefix(w.text, "*")
	}
	base := rule{freq: daily, interval: 1, weekStart: time.Monday}
	for _, h := range sets[1] {
		for _, m := range sets[0] {
			base.times = append(base.times, clock{h, m, 0})
		}
	}
	if len(sets[3]) < 12 {
		for _, m := range sets[3] {
			base.months = append(base.months, time.Month(m))
		}
	}
	byDate, byWeekday := base, base
	if len(sets[2]) < 31 {
		byDate.monthDays = sets[2]
	}
	for _, d := range sets[4] {
		if day := time.Weekday(d % 7); !slices.Contains(byWeekday.days, nthDay{0, day}) {
			byWeekday.days = append(byWeekday.days, nthDay{0, day})
		}
	}
	if len(byWeekday.days) == 7 {
		byWeekday.days = nil
	}
	switch {
	case !open[2] && !open[4]:
		s.rules = []rule{byDate, byWeekday}
	case !open[4]:
		byWeekday.monthDays = byDate.monthDays
		s.rules = []rule{byWeekday}
	default:
		byDate.days = byWeekday.days
		s.rules = []rule{byDate}
	}
	return p.end()
}

// cronField reads "*", "5", "1-5", "*/15", "10-50/10" and lists of them.
func (p *parser) cronField(w word, f cronField) (out []int, err error) {
	have := map[int]bool{}
	for _, part := range w.list() {
		span, step, stepped := strings.Cut(part.text, "/")
		every := 1
		if stepped {
			if every, err = p.one(word{step, part.at + len(span) + 1}, 1, f.most); err != nil {
				return nil, err
			}
		}
		from, to, isRange := strings.Cut(span, "-")
		first, last := f.least, f.most
		if span != "*" {
			if first, err = p.cronNumber(word{from, part.at}, f); err != nil {
				return nil, err
			}
			if last = first; isRange {
				if last, err = p.cronNumber(word{to, part.at + len(from) + 1}, f); err != nil {
					return nil, err
				}
			} else if stepped {
				last = f.most
			}
		}
		if last < first {
			return nil, p.bad(part, "the range ends before it begins")
		}
		for n := first; n <= last; n += every {
			have[n] = true
		}
	}
	for n := f.least; n <= f.most; n++ {
		if have[n] {
			out = append(out, n)
		}
	}
	return out, nil
}

func (p *parser) cronNumber(w word, f cronField) (int, error) {
	if i := slices.Index(f.names, strings.ToLower(w.text)); i >= 0 {
		return f.least + i, nil
	}
	n, ok := digits(w.text, 1, 2)
	if !ok || n < f.least || n > f.most {
		return 0, p.bad(w, "the "+f.name+" is a number from "+strconv.Itoa(f.least)+" to "+strconv.Itoa(f.most), f.names...)
	}
	return n, nil
}
