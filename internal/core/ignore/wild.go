package ignore

import "strings"

// wild matches a pattern with a path. "*" and "?" stand for no slash, "**" between slashes, or at an end, for any folders.
func wild(p, s string) bool { return new(try).matches(p, s, true) == yes }

// try is one match. It remembers where stars that stand for folders did not match, by what was left of pattern and path: many of them would
// otherwise try the same again and again.
type try struct{ failed map[[2]int]verdict }

// verdict is what came of a try. The two kinds of no keep the time short that many stars take: whoever tried shorter rests need not try others.
type verdict uint8

const (
	no verdict = iota
	yes
	noMore   // no other rest of the text will do either
	noMoreIn // none will before the next slash
)

// matches matches what is left of a pattern with what is left of a path; begins says that the pattern is at its begin or after a slash.
func (t *try) matches(p, s string, begins bool) verdict {
	for len(p) > 0 {
		c := p[0]
		if len(s) == 0 && c != '*' {
			return noMore
		}
		switch c {
		case '?':
			if s[0] == '/' {
				return no
			}
			p, s = p[1:], s[1:]
		case '[':
			rest, fits, ok := class(p[1:], s[0])
			if !ok {
				return noMore
			}
			if !fits || s[0] == '/' {
				return no
			}
			p, s = rest, s[1:]
		case '*':
			return t.star(p, s, begins)
		case '\\':
			if len(p) == 1 {
				return noMore
			}
			p = p[1:]
			fallthrough
		default:
			if p[0] != s[0] {
				return no
			}
			c = p[0]
			p, s = p[1:], s[1:]
		}
		begins = c == '/'
	}
	if len(s) == 0 {
		return yes
	}
	return no
}

// star matches a pattern that begins with a star.
func (t *try) star(p, s string, begins bool) verdict {
	n := 1
	for n < len(p) && p[n] == '*' {
		n++
	}
	rest := p[n:]
	// Only two stars or more between slashes, or at an end, stand for folders; others are as one.
	deep := n >= 2 && begins && (rest == "" || rest[0] == '/' || strings.HasPrefix(rest, `\/`))
	if deep && strings.HasPrefix(rest, "/") && t.matches(rest[1:], s, true) == yes {
		return yes // "**/" may stand for no folder at all
	}
	if rest == "" {
		if !deep && strings.Contains(s, "/") {
			return noMoreIn
		}
		return yes
	}
	if !deep && rest[0] == '/' {
		slash := strings.IndexByte(s, '/')
		if slash < 0 {
			return noMore
		}
		return t.matches(rest, s[slash:], false)
	}
	if !deep {
		return t.any(rest, s, false)
	}
	at := [2]int{len(p), len(s)}
	v, known := t.failed[at]
	if !known {
		if v = t.any(rest, s, true); v != yes {
			if t.failed == nil {
				t.failed = map[[2]int]verdict{}
			}
			t.failed[at] = v
		}
	}
	return v
}

// any matches what follows a star with any rest of the path, up to the next slash if it is not deep.
func (t *try) any(rest, s string, deep bool) verdict {
	for ; ; s = s[1:] {
		switch v := t.matches(rest, s, false); {
		case v == yes, v == noMore, v == noMoreIn && !deep:
			return v
		}
		if len(s) == 0 {
			return noMore
		}
		if s[0] == '/' && !deep {
			return noMoreIn
		}
	}
}

// classes are the names of POSIX's classes of characters, in the C locale.
var classes = map[string]func(c byte) bool{
	"alnum": func(c byte) bool { return letter(c) || digit(c) }, "alpha": letter, "digit": digit, "upper": upper, "lower": lower,
	"blank": func(c byte) bool { return c == ' ' || c == '\t' }, "cntrl": func(c byte) bool { return c < 32 || c == 127 },
	"graph": graph, "print": func(c byte) bool { return graph(c) || c == ' ' },
	"punct":  func(c byte) bool { return graph(c) && !letter(c) && !digit(c) },
	"space":  func(c byte) bool { return c == ' ' || c >= '\t' && c <= '\r' },
	"xdigit": func(c byte) bool { return digit(c) || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F' },
}

func lower(c byte) bool  { return c >= 'a' && c <= 'z' }
func upper(c byte) bool  { return c >= 'A' && c <= 'Z' }
func letter(c byte) bool { return lower(c) || upper(c) }
func digit(c byte) bool  { return c >= '0' && c <= '9' }
func graph(c byte) bool  { return c > 32 && c < 127 }

// class matches a byte with a class such as [a-z], of which p is what follows the bracket; ok is false where it does not end.
func class(p string, c byte) (rest string, fits, ok bool) {
	negated := false
	if p != "" && (p[0] == '!' || p[0] == '^') {
		negated, p = true, p[1:]
	}
	last := -1 // the byte before, with which a range may begin
	for first := true; ; first = false {
		if p == "" {
			return "", false, false
		}
		b := p[0]
		switch {
		case b == ']' && !first:
			return p[1:], fits != negated, true
		case b == '-' && last >= 0 && len(p) > 1 && p[1] != ']':
			p = p[1:]
			if b = p[0]; b == '\\' {
				if len(p) == 1 {
					return "", false, false
				}
				p, b = p[1:], p[1]
			}
			fits = fits || int(c) >= last && c <= b
			p, last = p[1:], -1
		case b == '[' && len(p) > 1 && p[1] == ':':
			end := strings.IndexByte(p[2:], ']')
			if end < 0 {
				return "", false, false
			}
			name := p[2 : 2+end]
			if !strings.HasSuffix(name, ":") { // it is no class: a bracket and a colon
				fits = fits || c == '['
				p, last = p[1:], '['
				continue
			}
			in, known := classes[name[:len(name)-1]]
			if !known {
				return "", false, false
			}
			fits = fits || in(c)
			p, last = p[2+end+1:], -1
		default:
			if b == '\\' {
				if len(p) == 1 {
					return "", false, false
				}
				p, b = p[1:], p[1]
			}
			fits = fits || c == b
			p, last = p[1:], int(b)
		}
	}
}
