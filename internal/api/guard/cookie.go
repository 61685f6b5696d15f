package guard

import "net/http"

// Cookie is the value of a cookie in a Cookie header (RFC 6265, section 4.2), "" where it has none or can't be read.
func Cookie(header, name string) string {
	cookies, err := http.ParseCookie(header)
	if err != nil {
		return ""
	}
	for _, c := range cookies {
		if c.Name == name {
			return c.Value
		}
	}
	return ""
}
