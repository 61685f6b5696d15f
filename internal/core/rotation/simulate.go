package rotation

import (
	"fmt"
	"slices"
	"time"

	"keenlodge/internal/core/cycle"
	"keenlodge/internal/core/image"
)

// Scenario is what a simulation is of: one image a night, of a cycle and a kind of capture between full ones, under a rule.
type Scenario struct {
	Rule    Rule
	Cycle   cycle.Rule
	Capture image.Capture // incremental or differential
	// Leans says that images lean on each other, as they do in the open layout.
	Leans bool
	// Fold joins full images that may go with the one after them.
	Fold   bool
	First  time.Time
	Nights int
}

// Night is what a store holds after a night's image is made and the rotation is through. Images[i] is the one of night i, with its
// verdict of that night; what went on an earlier night has none.
type Night struct {
	At     time.Time
	Images []NightImage
}

// NightImage is an image on one night.
type NightImage struct {
	Image
	Verdict Verdict // "" if it is gone already
}

// Simulate plays nights through. It is what would happen if every run went well and nobody pinned or proved anything.
func Simulate(p Scenario) []Night {
	var nights []Night
	var all []Image
	gone := map[string]bool{}
	for n := range p.Nights {
		at := p.First.AddDate(0, 0, n)
		m := Image{ID: fmt.Sprintf("night-%03d", n+1), Taken: at, Capture: "full", State: "usable", Bytes: 1}
		var made []cycle.Image
		for _, o := range all {
			made = append(made, cycle.Image{Taken: o.Taken, Full: o.Capture == "full"})
		}
		base := func(full bool) int {
			for i := len(all) - 1; i >= 0; i-- {
				if !gone[all[i].ID] && (!full || all[i].Capture == "full") {
					return i
				}
			}
			return -1
		}
		if p.Cycle.Due(made, at) == "" {
			if i := base(p.Capture == "differential"); i >= 0 {
				m.Capture = p.Capture
				if p.Leans {
					m.Base = all[i].ID
				}
			}
		}
		all = append(all, m)
		there := slices.DeleteFunc(slices.Clone(all), func(o Image) bool { return gone[o.ID] })
		verdicts := map[string]Verdict{}
		plan := Make(p.Rule, at, there)
		for p.Fold {
			base, into, ok := plan.Fold(there)
			if !ok {
				break
			}
			plan.Folded(there, base, into)
			i := slices.IndexFunc(all, func(o Image) bool { return o.ID == there[into].ID })
			all[i] = there[into]
		}
		for _, d := range plan.Decisions {
			verdicts[d.ID] = d.Verdict
			gone[d.ID] = d.Verdict == Drop
		}
		night := Night{At: at}
		for _, o := range all { // as they are on this night: a later fold does not change it
			night.Images = append(night.Images, NightImage{o, verdicts[o.ID]})
		}
		nights = append(nights, night)
	}
	return nights
}
