// Package plain makes texts of strangers fit to be kept and shown: what a guest, a store or a server says of itself may hold anything.
package plain

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// Text is a text without what no text has: bytes that are no UTF-8 and control characters, but for the end of a line and a tab, become U+FFFD;
// what goes beyond most bytes is cut off.
func Text(s string, most int) string {
	if len(s) > most {
		for most > 0 && !utf8.RuneStart(s[most]) {
			most--
		}
		s = s[:most]
	}
	if !strings.ContainsFunc(s, strange) && utf8.ValidString(s) {
		return s
	}
	return strings.Map(func(r rune) rune {
		if strange(r) {
			return utf8.RuneError
		}
		return r
	}, strings.ToValidUTF8(s, "\ufffd"))
}

// LastLine is the last line that says anything, as [Text] gives it.
func LastLine(s string, most int) string {
	s = strings.TrimSpace(s)
	return Text(s[strings.LastIndexByte(s, '\n')+1:], most)
}

func strange(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\t' }
