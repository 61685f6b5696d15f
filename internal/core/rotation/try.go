package rotation

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/suggest"
)

// Try plans the rotation that a JSON document describes:
//
//	{"zone": "Europe/Lisbon", "now": "RFC 3339", "rule": "newest 3", "images": [Image …]}
//
// Decisions come in the document's order. An error names the place in one line.
func Try(document []byte) (Plan, error) {
	var in struct {
		Zone   string    `json:"zone"`
		Now    time.Time `json:"now"`
		Rule   string    `json:"rule"`
		Images []Image   `json:"images"`
	}
	dec := json.NewDecoder(bytes.NewReader(document))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&in); err != nil {
		return Plan{}, fmt.Errorf("%s: %w", place(document, err, dec.InputOffset()), err)
	}
	zone, err := time.LoadLocation(in.Zone)
	if err != nil {
		return Plan{}, fmt.Errorf("zone: %w", err)
	}
	rule, err := Parse(in.Rule)
	if err != nil {
		return Plan{}, fmt.Errorf("rule: %w", err)
	}
	if in.Now.IsZero() {
		return Plan{}, errors.New(`now: it is missing; write a moment such as "2026-02-12T23:30:00Z"`)
	}
	seen := map[string]bool{}
	for i, m := range in.Images {
		if err := m.check(seen); err != nil {
			return Plan{}, fmt.Errorf("images[%d]: %w", i, err)
		}
		seen[m.ID] = true
	}
	for i, m := range in.Images {
		if m.Base != "" && !seen[m.Base] {
			return Plan{}, fmt.Errorf("images[%d]: base: no image is called %q", i, m.Base)
		}
	}
	return Make(rule, in.Now.In(zone), in.Images), nil
}

func (m Image) check(seen map[string]bool) error {
	switch {
	case m.ID == "":
		return errors.New("id: it is missing")
	case seen[m.ID]:
		return fmt.Errorf("id: %q is there twice", m.ID)
	case m.Taken.IsZero():
		return errors.New("taken: it is missing")
	case !slices.Contains(image.States, m.State):
		return fmt.Errorf("state: %q is not one%s", m.State, suggest.Hint(m.State, image.States))
	case m.Capture != "" && !slices.Contains(image.Captures, m.Capture):
		return fmt.Errorf("capture: %q is not one%s", m.Capture, suggest.Hint(m.Capture, image.Captures))
	case m.Proven != "" && !slices.Contains(image.Levels, m.Proven):
		return fmt.Errorf("proven: %q is not one%s", m.Proven, suggest.Hint(m.Proven, image.Levels))
	}
	return nil
}

// place is the line of a document at which decoding failed.
func place(document []byte, err error, offset int64) string {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		offset = syntax.Offset
	case errors.As(err, &kind):
		offset = kind.Offset
	}
	offset = min(offset, int64(len(document)))
	return fmt.Sprintf("line %d", 1+bytes.Count(document[:offset], []byte("\n")))
}
