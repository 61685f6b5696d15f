package islet

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"keenlodge/internal/source"
)

// describe is the guest that is asked for, as the interface is told of it, and what of its definition is left out: folders of the host.
func describe(n source.NewGuest) (g guest, left []string, err error) {
	if err := json.Unmarshal([]byte(n.Definition), &g); err != nil || g.Build.Memory == 0 {
		return g, nil, fmt.Errorf("guest %s: its definition is not one of this kind of hypervisor", n.Name)
	}
	g.ID, g.Name, g.Notes, g.Host, g.Power = "", n.Name, nil, "", ""
	var shares []string
	for _, folder := range g.Build.Shares {
		if what := "shared folder " + folder; slices.Contains(n.Take, what) {
			shares = append(shares, folder)
		} else {
			left = append(left, what)
		}
	}
	g.Build.Shares = shares
	var disks []guestDisk
	for _, d := range g.Disks {
		if place, ok := n.Disks[d.Target]; ok {
			disks = append(disks, guestDisk{Target: d.Target, Volume: place})
		}
	}
	g.Disks = disks
	var cards []string
	for _, c := range g.Build.Cards {
		if fresh, ok := n.Cards[strings.ToLower(c)]; ok {
			cards = append(cards, fresh) // the others get one of the hypervisor's
		}
	}
	g.Build.Cards = cards
	return g, left, nil
}
