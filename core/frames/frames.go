// Package frames holds sets of animation frame numbers: parsing the trade's
// notation, printing it back, and the set arithmetic that a shot needs.
//
//	set, err := frames.Parse("1-96x2,120")
//	set.Len()            // 49
//	set.String()         // "1-95x2,120"
//	set.Sample(3)        // from across the set: 17, 49, 81
package frames

import (
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
)

// MaxFrames is the most frames one set may hold. It keeps a slip of the finger
// such as 1-10000000000 from filling memory.
const MaxFrames = 2_000_000

// Set is an immutable, sorted set of frame numbers without repeats. The zero
// value is the empty set. Frame numbers may be negative, as the trade allows.
type Set struct {
	numbers []int
}

// Of returns the set of the given numbers, in any order, repeats allowed.
func Of(numbers ...int) Set {
	own := slices.Clone(numbers)
	slices.Sort(own)
	return Set{slices.Compact(own)}
}

// Parse reads a comma-separated list of N, A-B and A-BxSTEP.
// The error names the part that could not be read.
func Parse(text string) (Set, error) {
	var numbers []int
	for part := range strings.SplitSeq(text, ",") {
		part = strings.TrimSpace(part)
		first, last, step, err := parsePart(part)
		if err != nil {
			return Set{}, err
		}
		if count := (last-first)/step + 1; count > MaxFrames-len(numbers) {
			return Set{}, fmt.Errorf("frames %q: more than %d frames in one set", part, MaxFrames)
		}
		for n := first; n <= last; n += step {
			numbers = append(numbers, n)
		}
	}
	return Of(numbers...), nil
}

// limit is the highest frame number: seven digits, as files are named by them.
const limit = 9_999_999

func parsePart(part string) (first, last, step int, err error) {
	bad := func(why string) (int, int, int, error) {
		return 0, 0, 0, fmt.Errorf("frames %q: %s; write for example 1-96, 1-96x2 or 1-10,20,30-40", part, why)
	}
	if part == "" {
		return bad("empty")
	}
	spread, stepText, stepped := strings.Cut(part, "x")
	// A dash at the start is a sign, not the middle of a range.
	dash := strings.Index(spread[min(1, len(spread)):], "-") + 1
	firstText, lastText := spread, spread
	if dash > 0 {
		firstText, lastText = spread[:dash], spread[dash+1:]
	} else if stepped {
		return bad("a step needs a range")
	}
	if first, err = strconv.Atoi(firstText); err != nil || max(first, -first) > limit {
		return bad(fmt.Sprintf("%q is not a frame number", firstText))
	}
	if last, err = strconv.Atoi(lastText); err != nil || max(last, -last) > limit {
		return bad(fmt.Sprintf("%q is not a frame number", lastText))
	}
	step = 1
	if stepped {
		if step, err = strconv.Atoi(stepText); err != nil || step < 1 {
			return bad(fmt.Sprintf("%q is not a step of 1 or more", stepText))
		}
	}
	if last < first {
		return bad(fmt.Sprintf("%d comes after %d", first, last))
	}
	return first, last, step, nil
}

// Len returns how many frames the set holds.
func (s Set) Len() int { return len(s.numbers) }

// At returns the i-th frame in rising order, 0 <= i < Len.
func (s Set) At(i int) int { return s.numbers[i] }

// Has reports whether frame n is in the set.
func (s Set) Has(n int) bool {
	_, found := slices.BinarySearch(s.numbers, n)
	return found
}

// Index is where a number stands in the set, from 0; false: it is not in it.
func (s Set) Index(n int) (int, bool) { return slices.BinarySearch(s.numbers, n) }

// Part is the frames from one index up to another, which is not in it.
func (s Set) Part(from, to int) Set { return Set{s.numbers[from:to:to]} }

// All yields the frames in rising order.
func (s Set) All() iter.Seq[int] { return slices.Values(s.numbers) }

// Plus returns the frames that are in either set.
func (s Set) Plus(other Set) Set {
	return Of(append(slices.Clone(s.numbers), other.numbers...)...)
}

// Minus returns the frames of s that are not in other.
func (s Set) Minus(other Set) Set {
	var left []int
	for _, n := range s.numbers {
		if !other.Has(n) {
			left = append(left, n)
		}
	}
	return Set{left}
}

// Sample returns up to n different frames: the middle one of each of n equal
// stretches of the set. Their mean is a fair guess at the mean of all, which one
// that includes both ends is not.
func (s Set) Sample(n int) Set {
	n = min(n, s.Len())
	picked := make([]int, max(0, n))
	for i := range picked {
		picked[i] = s.numbers[(2*i+1)*s.Len()/(2*n)]
	}
	return Of(picked...)
}

// String prints the set in the notation that Parse reads, with runs of three or
// more evenly spaced frames joined.
func (s Set) String() string {
	var parts []string
	for i := 0; i < len(s.numbers); {
		j := i + 1
		if j < len(s.numbers) {
			step := s.numbers[j] - s.numbers[i]
			for j+1 < len(s.numbers) && s.numbers[j+1]-s.numbers[j] == step {
				j++
			}
			if j-i >= 2 || step == 1 {
				part := fmt.Sprintf("%d-%d", s.numbers[i], s.numbers[j])
				if step > 1 {
					part += "x" + strconv.Itoa(step)
				}
				parts, i = append(parts, part), j+1
				continue
			}
		}
		parts, i = append(parts, strconv.Itoa(s.numbers[i])), i+1
	}
	return strings.Join(parts, ",")
}
