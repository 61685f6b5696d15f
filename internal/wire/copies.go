package wire

import (
	"fmt"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/site"
)

// Copy is a copy rule with how it stands.
type Copy struct {
	Name string `json:"name"`
	site.Copy
	NextDue *time.Time `json:"next_due"`
	Notice  string     `json:"notice" doc:"what a person must look at, or empty"`
	Paused  *Pause     `json:"paused"`
	Says    []string   `json:"says" doc:"each schedule in plain words"`
	Copies  int        `json:"copies" doc:"how many images it has made that are there"`
	Waiting int        `json:"waiting" doc:"how many images are to be copied now"`
	Behind  *time.Time `json:"behind" doc:"when the oldest of those was taken"`
}

// CopyVerdict is what a copy rule does with an image.
type CopyVerdict struct {
	Image     string    `json:"image"`
	Machine   string    `json:"machine"`
	MachineID string    `json:"machine_id"`
	Policy    string    `json:"policy"`
	Taken     time.Time `json:"taken"`
	Stored    int64     `json:"stored" doc:"bytes that it takes in the store from which it is copied"`
	Copy      bool      `json:"copy"`
	Why       string    `json:"why"`
}

// CopyResult is what a run of a copy rule brought over, in bytes.
type CopyResult struct {
	Images int   `json:"images"`
	Left   int   `json:"left,omitempty" doc:"images that were due and are left for the next run"`
	Data   int64 `json:"data" doc:"what the images hold, without zeros"`
	New    int64 `json:"new" doc:"what the other store did not have of that"`
	Sent   int64 `json:"sent" doc:"and what was sent for it, compressed"`
	Read   int64 `json:"read" doc:"what was read for it of the store from which it came"`
}

// Add adds another result.
func (r *CopyResult) Add(o CopyResult) {
	r.Images, r.Left, r.Data, r.New, r.Sent, r.Read = r.Images+o.Images, r.Left+o.Left, r.Data+o.Data, r.New+o.New, r.Sent+o.Sent, r.Read+o.Read
}

// Says tells in words what was saved, and why.
func (r CopyResult) Says() string {
	show := func(n int64) string { return humanize.IBytes(uint64(max(0, n))) }
	text := fmt.Sprintf("%s of data", show(r.Data))
	if r.Images > 1 {
		text = fmt.Sprintf("%d images of %s", r.Images, text)
	}
	if known := r.Data - r.New; known > 0 {
		text += fmt.Sprintf(", of which %s were there already", show(known))
	}
	text += fmt.Sprintf("; %s were sent", show(r.Sent))
	if r.New > r.Sent && r.Sent > 0 {
		text += fmt.Sprintf(" for the %s that were not", show(r.New))
	}
	return text
}
