package planning

import "slices"

// span is a stretch of time, [start, end).
type span struct{ start, end Millis }

// disjoint cuts sorted spans so that none starts before the one before it ends.
// Windows that touch stay apart: a booking lies inside one of them.
func disjoint(sorted []span) []span {
	var out []span
	for _, x := range sorted {
		if n := len(out); n > 0 && x.start < out[n-1].end {
			x.start = out[n-1].end
		}
		if x.end > x.start {
			out = append(out, x)
		}
	}
	return out
}

// without cuts a stretch out of sorted, disjoint spans, in place.
func without(spans []span, cut span) []span {
	for i := 0; i < len(spans); i++ {
		x := spans[i]
		if cut.end <= x.start {
			break
		}
		if x.end <= cut.start {
			continue
		}
		before, after := span{x.start, min(x.end, cut.start)}, span{max(x.start, cut.end), x.end}
		switch {
		case before.end > before.start && after.end > after.start:
			spans = slices.Insert(spans, i+1, after)
			spans[i] = before
			return spans
		case before.end > before.start:
			spans[i] = before
		case after.end > after.start:
			spans[i] = after
			return spans
		default:
			spans = slices.Delete(spans, i, i+1)
			i--
		}
	}
	return spans
}

// inside appends to out what of the spans lies within the bounds.
func inside(out, spans []span, bounds span) []span {
	for _, x := range spans {
		if x = (span{max(x.start, bounds.start), min(x.end, bounds.end)}); x.end > x.start {
			out = append(out, x)
		}
	}
	return out
}
