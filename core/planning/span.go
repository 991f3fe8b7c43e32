package planning

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

// without cuts a stretch out of sorted, disjoint spans.
func without(spans []span, cut span) []span {
	clear := true
	for _, x := range spans {
		if x.start < cut.end && cut.start < x.end {
			clear = false
			break
		}
	}
	if clear {
		return spans
	}
	out := make([]span, 0, len(spans)+1)
	for _, x := range spans {
		if cut.end <= x.start || x.end <= cut.start {
			out = append(out, x)
			continue
		}
		if x.start < cut.start {
			out = append(out, span{x.start, cut.start})
		}
		if cut.end < x.end {
			out = append(out, span{cut.end, x.end})
		}
	}
	return out
}

// inside cuts spans to what lies within the bounds.
func inside(spans []span, bounds span) []span {
	out := spans[:0:0]
	for _, x := range spans {
		if x = (span{max(x.start, bounds.start), min(x.end, bounds.end)}); x.end > x.start {
			out = append(out, x)
		}
	}
	return out
}
