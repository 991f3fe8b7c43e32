// Package spelling finds what somebody meant who made a typing error.
package spelling

import "github.com/agnivade/levenshtein"

// Nearest is the known word that is a typing error or two from a word, the first of several;
// "": none is. What counts is the least number of letters to change, add or leave out
// (Levenshtein, 1966): one, and one more for each three letters of the word.
func Nearest(word string, known []string) string {
	best, least := "", 1+len(word)/3
	for _, k := range known {
		if d := levenshtein.ComputeDistance(word, k); d <= least && (best == "" || d < levenshtein.ComputeDistance(word, best)) {
			best = k
		}
	}
	return best
}
