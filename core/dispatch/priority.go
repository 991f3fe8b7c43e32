package dispatch

import "fmt"

// Priority says which of several runs comes first on a host: frames that are being
// rendered are finished, then the crews of the more urgent run choose first.
type Priority int

// Priorities.
const (
	Backlog Priority = -2 // no deadline: what crews do that would else be idle
	Low     Priority = -1
	Normal  Priority = 0
	Urgent  Priority = 1
)

var priorityWords = map[Priority]string{Backlog: "backlog", Low: "low", Normal: "normal", Urgent: "urgent"}

// String is a word for it.
func (p Priority) String() string { return priorityWords[p] }

// ParsePriority reads the word; "" is Normal.
func ParsePriority(word string) (Priority, error) {
	if word == "" {
		return Normal, nil
	}
	for p, w := range priorityWords {
		if w == word {
			return p, nil
		}
	}
	return Normal, fmt.Errorf("priority %q: want urgent, normal, low or backlog", word)
}
