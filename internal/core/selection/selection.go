// Package selection reads tag expressions: which machines are meant.
package selection

import (
	"fmt"
	"path"
	"strings"

	"keenlodge/internal/core/phrase"
	"keenlodge/internal/core/suggest"
)

// Expression is a parsed tag expression. The zero value matches nothing.
type Expression struct {
	text string
	is   func(tags map[string]string) bool
}

// deepest bounds how far parentheses and "not" nest.
const deepest = 50

// Parse reads an expression such as "tier=gold", "role=web and not tier=bronze", "(tier=gold or role=database) and owner". A key
// alone asks whether the tag is there; values may have * and ?; "key!=value" holds, too, where the tag is not there. Errors are of
// type [*phrase.Error]. The empty expression matches nothing.
func Parse(text string) (Expression, error) {
	if strings.TrimSpace(text) == "" {
		return Expression{}, nil
	}
	p := &parser{text: text}
	p.split()
	is, err := p.either(0)
	if err == nil && len(p.words) > 0 {
		err = p.bad(p.words[0], `"and", "or" or the end is expected here`, "and", "or")
	}
	return Expression{text, is}, err
}

// String is the expression as it was written.
func (e Expression) String() string { return e.text }

// Matches reports whether a machine with these tags is meant.
func (e Expression) Matches(tags map[string]string) bool { return e.is != nil && e.is(tags) }

type word struct {
	text string
	at   int
}

type parser struct {
	text  string
	words []word
}

// split takes words apart at blanks and parentheses.
func (p *parser) split() {
	for i := 0; i < len(p.text); {
		switch c := p.text[i]; {
		case c <= ' ':
			i++
		case c == '(' || c == ')':
			p.words = append(p.words, word{p.text[i : i+1], i})
			i++
		default:
			from := i
			for i < len(p.text) && p.text[i] > ' ' && p.text[i] != '(' && p.text[i] != ')' {
				i++
			}
			p.words = append(p.words, word{p.text[from:i], from})
		}
	}
}

func (p *parser) next() word {
	if len(p.words) == 0 {
		return word{"", len(p.text)}
	}
	w := p.words[0]
	p.words = p.words[1:]
	return w
}

func (p *parser) take(text string) bool {
	if len(p.words) == 0 || p.words[0].text != text {
		return false
	}
	p.next()
	return true
}

func (p *parser) bad(w word, why string, known ...string) error {
	if guess := suggest.Match(w.text, known); guess != "" {
		why += fmt.Sprintf("; did you mean %q?", guess)
	}
	return &phrase.Error{Kind: "tag", Phrase: p.text, At: w.at, Word: w.text, Why: why}
}

type test = func(tags map[string]string) bool

func (p *parser) either(depth int) (test, error) {
	left, err := p.both(depth)
	for err == nil && p.take("or") {
		one := left
		var two test
		two, err = p.both(depth)
		left = func(tags map[string]string) bool { return one(tags) || two(tags) }
	}
	return left, err
}

func (p *parser) both(depth int) (test, error) {
	left, err := p.single(depth)
	for err == nil && p.take("and") {
		one := left
		var two test
		two, err = p.single(depth)
		left = func(tags map[string]string) bool { return one(tags) && two(tags) }
	}
	return left, err
}

func (p *parser) single(depth int) (test, error) {
	w := p.next()
	switch {
	case depth > deepest:
		return nil, p.bad(w, "this nests too deep")
	case w.text == "not":
		inner, err := p.single(depth + 1)
		return func(tags map[string]string) bool { return !inner(tags) }, err
	case w.text == "(":
		inner, err := p.either(depth + 1)
		if err == nil && !p.take(")") {
			err = p.bad(p.next(), `")" is expected here`)
		}
		return inner, err
	case w.text == "" || w.text == "and" || w.text == "or" || w.text == ")":
		return nil, p.bad(w, "a tag is expected here, such as tier=gold")
	}
	return p.tag(w)
}

// tag reads "key", "key=value" or "key!=value".
func (p *parser) tag(w word) (test, error) {
	key, value, ok := strings.Cut(w.text, "=")
	if !ok {
		return func(tags map[string]string) bool { _, has := tags[key]; return has }, nil
	}
	key, unlike := strings.CutSuffix(key, "!")
	if _, err := path.Match(value, ""); err != nil || key == "" {
		return nil, p.bad(w, "a tag is written as key=value; the value may have * and ?")
	}
	return func(tags map[string]string) bool {
		has, in := tags[key]
		same, _ := path.Match(value, has) // the pattern was tried above
		return (in && same) != unlike
	}, nil
}
