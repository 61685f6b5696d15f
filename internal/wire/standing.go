package wire

import "time"

// Standing is how a lodge stands, for whoever has ten seconds.
type Standing struct {
	// Machines are those that are there, Retired those that were taken down on purpose, Covered those that a policy covers.
	Machines int `json:"machines"`
	Retired  int `json:"retired"`
	Covered  int `json:"covered"`
	// Late are covered machines whose newest image is older than their policies' schedules promise, or that have none.
	Late Some `json:"late"`
	// Failed are those whose newest image failed its proof, Proven is how many have a proven one; Unproven have one that is not proven.
	Failed   Some `json:"failed"`
	Proven   int  `json:"proven"`
	Unproven Some `json:"unproven"`
	// Unusual are machines with an image in which something is unusual that nobody has looked at.
	Unusual Some `json:"unusual"`
	// Owed is how what is promised stands.
	Owed Owed `json:"owed"`
	// Open are machines that no policy covers.
	Open Some `json:"open"`
	// Held is how many policies wait for a person, Paused how many are paused.
	Held    int      `json:"held"`
	Paused  int      `json:"paused"`
	Notices []Notice `json:"notices"`
	// Next is the next run of a policy that is not paused, or null.
	Next *NextRun `json:"next"`
}

// Note adds a notice, unless there are so many, or there is nothing to say.
func (s *Standing) Note(on, text string, most int) {
	if text != "" && len(s.Notices) < most {
		s.Notices = append(s.Notices, Notice{On: on, Text: text})
	}
}

// Some is how many there are, and what the first of them are called.
type Some struct {
	Count int      `json:"count"`
	Names []string `json:"names"`
}

// Add counts one more, and names it unless most are named.
func (s *Some) Add(name string, most int) {
	if s.Count++; len(s.Names) < most {
		s.Names = append(s.Names, name)
	}
}

// Notice is what a person should look at.
type Notice struct {
	On   string `json:"on" doc:"the machine or policy"`
	Text string `json:"text"`
}

// NextRun is when a policy runs next.
type NextRun struct {
	Policy string    `json:"policy"`
	At     time.Time `json:"at"`
	// Says is its schedules in plain words, Rotation its rule.
	Says     []string `json:"says"`
	Rotation string   `json:"rotation"`
}
