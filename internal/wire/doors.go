package wire

import (
	"time"

	"keenlodge/internal/core/right"
)

// Token is one that was made, without what it opens doors with.
type Token struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Scope   string     `json:"scope" enum:"all,calendar" doc:"all that its roles allow, or the calendar feed alone"`
	Roles   []string   `json:"roles" doc:"role phrases"`
	Made    time.Time  `json:"made"`
	MadeBy  string     `json:"made_by"`
	Expires time.Time  `json:"expires"`
	Used    *time.Time `json:"used" doc:"when it was last used, to the minute, or null"`
	From    string     `json:"from" doc:"where it was last used from"`
	Revoked *time.Time `json:"revoked"`
	Live    bool       `json:"live" doc:"neither revoked nor expired"`
	// Sessions is how many browsers are signed in with it.
	Sessions int `json:"sessions"`
}

// NewToken is a token with what it opens doors with, which is told once.
type NewToken struct {
	Token
	Secret string `json:"secret" doc:"what opens doors; nobody can ask for it again"`
}

// TokenSpec asks for a token.
type TokenSpec struct {
	Roles []string `json:"roles" doc:"role phrases, such as: viewer, operator of policies nightly-*"`
	Once  bool     `json:"once,omitempty" doc:"what opens doors is a code that a person can type, once, for a token that is good for a day"`
	TokenTime
}

// Redemption is a code that becomes a token.
type Redemption struct {
	Code string `json:"code"`
}

// Redeemed is what a code became. Secret opens doors.
type Redeemed struct {
	Name   string `json:"name"`
	Secret string `json:"secret"`
}

// TokenTime is how long a token is to be good for.
type TokenTime struct {
	For string `json:"for,omitempty" doc:"such as 30 days; default 90 days, at the most 400"`
}

// Session is a browser that is signed in.
type Session struct {
	ID      string    `json:"id"`
	Token   string    `json:"token" doc:"the name of the token with which it signed in"`
	Made    time.Time `json:"made"`
	Used    time.Time `json:"used" doc:"to the minute"`
	Expires time.Time `json:"expires" doc:"when it ends at the latest; it ends before if it is not used for 12 hours"`
	Address string    `json:"address"`
	Browser string    `json:"browser"`
	// Mine says that it is the caller's own.
	Mine bool `json:"mine"`
}

// Me is who calls, and what he may do.
type Me struct {
	Name    string            `json:"name" doc:"the token's name"`
	Session string            `json:"session" doc:"the browser's session, or empty"`
	Roles   []string          `json:"roles" doc:"role phrases"`
	Whole   bool              `json:"whole" doc:"no role is narrowed"`
	May     []right.Operation `json:"may" doc:"operations that the roles allow, of something at least"`
	// Needs says of every other operation what it needs.
	Needs   map[string]string `json:"needs"`
	Expires time.Time         `json:"expires" doc:"when this key ends, if it is not used before"`
}

// Ended is how many sessions ended.
type Ended struct {
	Sessions int64 `json:"sessions"`
}

// Authority is how the lodge's own certificate authority stands.
type Authority struct {
	Fingerprint string    `json:"fingerprint" doc:"SHA-256 of its public key; clients and agents pin it"`
	Next        string    `json:"next" doc:"fingerprint of the authority that comes next; they pin that, too"`
	Ends        time.Time `json:"ends"`
	Spare       bool      `json:"spare" doc:"the key of the next one is in the vault, and was not taken out"`
	Renewed     int       `json:"renewed" doc:"how often it was renewed"`
}

// Spare is the key of the next authority.
type Spare struct {
	Key string `json:"key,omitempty" doc:"PEM of the key, and of its certificate"`
}

// Agent is a server's agent, which joined or may join.
type Agent struct {
	Name         string     `json:"name"`
	Made         time.Time  `json:"made"`
	MadeBy       string     `json:"made_by"`
	JoiningUntil *time.Time `json:"joining_until" doc:"until when it may join with the word that it was given, or null"`
	Key          string     `json:"key" doc:"fingerprint of its key; empty for one that has not joined"`
	Certified    *time.Time `json:"certified"`
	Ends         *time.Time `json:"ends" doc:"when its newest certificate ends"`
	Seen         *time.Time `json:"seen"`
	Address      string     `json:"address"`
	Revoked      *time.Time `json:"revoked"`
	Source       string     `json:"source" doc:"the source that its server is one of"`
	Connected    bool       `json:"connected" doc:"it has a line to the lodge just now"`
	Program      string     `json:"program" doc:"what it runs as, as it said last"`
	System       string     `json:"system" doc:"what its server runs, as it said last"`
}

// Admission is the word with which an agent joins, once.
type Admission struct {
	Word  string    `json:"word" doc:"nobody can ask for it again"`
	Until time.Time `json:"until"`
	Port  int       `json:"port" doc:"of the service at which agents call; 0 where that is the interface's own"`
}

// Joining is what an agent joins with.
type Joining struct {
	Word string `json:"word"`
	CertificateRequest
}

// CertificateRequest asks for a certificate.
type CertificateRequest struct {
	Request string `json:"request" doc:"PKCS #10 (RFC 2986), as PEM"`
}

// Certificate is an agent's, and what it is to trust the lodge by.
type Certificate struct {
	Name        string    `json:"name"`
	Certificate string    `json:"certificate" doc:"PEM, with the authority's behind it"`
	Ends        time.Time `json:"ends"`
	Fingerprint string    `json:"fingerprint" doc:"the authority's"`
	Next        string    `json:"next" doc:"that of the authority which comes next"`
}

// Resealed is how many secrets were sealed with another key than the newest.
type Resealed struct {
	Resealed int `json:"resealed"`
}
