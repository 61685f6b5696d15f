package wire

import (
	"encoding/json"
	"time"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// AddedStore tells whether a store was made or found.
type AddedStore struct {
	Made bool `json:"made" doc:"it is new; otherwise it was there already, and may hold images to adopt"`
}

// CheckBody says how a store is to be checked.
type CheckBody struct {
	Read   bool   `json:"read,omitempty" doc:"read every byte of the packs, too"`
	Repair bool   `json:"repair,omitempty" doc:"mend what can be mended"`
	From   string `json:"from,omitempty" doc:"another store that helps to mend"`
}

// SweepResult is what a sweep would do, or did.
type SweepResult struct {
	store.SweepReport
	// Left are the dropped images whose grace is over: they leave the store first. LeftBytes is what they took when they were stored.
	Left      []string `json:"left"`
	LeftBytes int64    `json:"left_bytes"`
	// Waiting is how many dropped images are still in their grace.
	Waiting int `json:"waiting"`
}

// Adopted is what was taken over from a store.
type Adopted struct {
	Images   int `json:"images" doc:"that the records did not know"`
	Known    int `json:"known" doc:"that they knew"`
	Machines int `json:"machines" doc:"that the records did not know"`
	Sets     int `json:"sets" doc:"machine and policy together, of all images in the store"`
	Proofs   int `json:"proofs"`
	Pins     int `json:"pins"`
	// Damaged are images that could not be read, with the reason.
	Damaged []string `json:"damaged"`
	// Missing are images of the records that the store does not hold any more.
	Missing []string `json:"missing"`
	// Owner is another lodge that rotates the store's images, or the zero value for one that nobody is known to; nil is this one.
	Owner *store.Owner `json:"owner,omitempty" doc:"another lodge that rotates these images, as far as is known; rotation here leaves them alone"`
	// TakenOver is how many images rotation here sees to from now on.
	TakenOver int `json:"taken_over,omitempty"`
}

// Credentials are what signs in to a store's medium, by the names that its medium gives them. They are kept sealed and told to nobody.
type Credentials = medium.Secrets

// Store is a store as people see it.
type Store struct {
	StoreFigures
	site.Store
}

// StoreFigures are what a store has beside its entry in the site.
type StoreFigures struct {
	Name     string `json:"name"`
	Location string `json:"location" doc:"where it is, in a word"`
	Images   int    `json:"images"`
	Broken   int    `json:"broken" doc:"images that can't be restored whole"`
	// Doubtful are those in which damage was found once.
	Doubtful int         `json:"doubtful" doc:"images in which damage was found once, and not a second time yet"`
	Size     int64       `json:"size" doc:"bytes of the disks in its images"`
	Used     int64       `json:"used" doc:"bytes that it takes on its medium"`
	Room     medium.Room `json:"room"`
	Error    string      `json:"error" doc:"why it can't be reached, or empty"`
	// Away is since when the disk of a removable store is not here.
	Away *time.Time `json:"away" doc:"since when its disk, which comes and goes, is not here"`
}

// Move asks for a store to be moved.
type Move struct {
	Spec      site.Store  `json:"spec" doc:"the new place: a medium and its settings; all else stays"`
	Access    Credentials `json:"access,omitempty" doc:"what signs in there"`
	Bandwidth string      `json:"bandwidth,omitempty" doc:"what it may move in a second, such as 2 MiB"`
}

// Moved tells of a store that was moved.
type Moved struct {
	Store string `json:"store"`
	From  string `json:"from" doc:"the old place, which is as it was"`
	To    string `json:"to"`
	Bytes int64  `json:"bytes" doc:"that were moved"`
}

// Released tells how a store's disk was let go.
type Released struct {
	Folder string `json:"folder" doc:"where it was"`
	Safe   bool   `json:"safe" doc:"it can be unplugged now"`
	Says   string `json:"says"`
}

// StoreAddition asks for a store to be added to the site.
type StoreAddition struct {
	Spec   site.Store     `json:"spec"`
	Access Credentials    `json:"access,omitempty"`
	Keys   []store.NewKey `json:"keys,omitempty" doc:"first keys of a sealed store"`
	// Opener opens a sealed store that exists already.
	Opener chunk.Opener `json:"opener,omitempty"`
}

// ProbeRequest describes a place to try.
type ProbeRequest struct {
	Spec   *site.Store `json:"spec,omitempty" doc:"the place; by default that of the site's store"`
	Access Credentials `json:"access,omitempty" doc:"what signs in; by default what the lodge has for the store"`
}

// MarshalJSON writes the entry and the figures side by side.
func (s Store) MarshalJSON() ([]byte, error) {
	figures, err := json.Marshal(s.StoreFigures)
	if err != nil {
		return nil, err
	}
	entry, err := s.Store.MarshalJSON()
	if err != nil {
		return nil, err
	}
	return append(append(figures[:len(figures)-1], ','), entry[1:]...), nil
}

// UnmarshalJSON reads both.
func (s *Store) UnmarshalJSON(text []byte) error {
	if err := json.Unmarshal(text, &s.StoreFigures); err != nil {
		return err
	}
	return s.Store.UnmarshalJSON(text)
}
