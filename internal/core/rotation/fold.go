package rotation

// Fold finds a full image that stays only because the next one leans on it: folded into that one, it could go. base and into are
// places in images; ok is false if there is no such pair. After folding, into is a full image that leans on nothing, and base is
// to be dropped; another pair may follow.
func (p Plan) Fold(images []Image) (base, into int, ok bool) {
	for base := range images {
		if p.Decisions[base].Verdict != Held || images[base].Capture != "full" || p.fixed != nil && p.fixed[base] {
			continue // what is locked can't go, folded or not
		}
		leaning := 0
		for i, m := range images {
			if m.Base == images[base].ID {
				into, leaning = i, leaning+1
			}
		}
		if leaning == 1 && images[into].State == "usable" { // others would still lean on it
			return base, into, true
		}
	}
	return 0, 0, false
}

// Folded is the plan and the images after a fold.
func (p *Plan) Folded(images []Image, base, into int) {
	images[into].Capture, images[into].Base = "full", ""
	p.Decisions[base] = Decision{images[base].ID, Drop, "folded into image " + images[into].ID}
}
