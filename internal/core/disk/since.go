package disk

// Since joins what a source says of a range: all tells data from zeros, changed tells what may have been written since an older
// image ([Data]) from what was not ([Unchanged]). Both begin at the same offset; the answer ends where the shorter one does.
// What was not written reads as in the older image, whatever all says of it.
func Since(all, changed []Extent) []Extent {
	var out []Extent
	for i, j := 0, 0; i < len(all) && j < len(changed); {
		at := max(all[i].Offset, changed[j].Offset)
		end := min(all[i].End(), changed[j].End())
		kind := all[i].Kind
		if changed[j].Kind == Unchanged {
			kind = Unchanged
		}
		if n := len(out); n > 0 && out[n-1].Kind == kind {
			out[n-1].Length += end - at
		} else if end > at {
			out = append(out, Extent{at, end - at, kind})
		}
		if all[i].End() == end {
			i++
		}
		if changed[j].End() == end {
			j++
		}
	}
	return out
}
