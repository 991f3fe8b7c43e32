package agents

import (
	"context"
	"crypto/sha256"
	"fmt"
	"strings"
	"sync"
	"time"

	"rotanex.example/service/hosts"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
)

// inputList is the files below the scene folder that hosts may need next.
type inputList struct {
	files []string
	sum   string    // over them
	to    time.Time // up to which change of the shots
}

// askedAgain is how long the list holds before the store is asked whether it is another.
const askedAgain = 500 * time.Millisecond

// wantedInputs is the list as long as no shot changes.
type wantedInputs struct {
	mu    sync.Mutex
	asked time.Time // the store, last, by the wall clock
	of    string
	list  inputList
}

// wanted lists the files that hosts may need next.
func (a *Agents) wanted(ctx context.Context) (inputList, error) {
	w := &a.inputs
	w.mu.Lock()
	defer w.mu.Unlock()
	wall := a.Clock.WallNow()
	if since := wall.Sub(w.asked); since > 0 && since < askedAgain { // of a clock that stands nothing is kept
		return w.list, nil
	}
	tx, now := a.Store.WithContext(ctx), a.Clock.Now()
	of, to, err := shots.Listed(tx, now)
	if err == nil && w.of != of {
		var files []string
		if files, err = shots.Files(tx, now); err == nil {
			w.of, w.list = of, inputList{files, fmt.Sprintf("%x", sha256.Sum256([]byte(strings.Join(files, "\x00")))), to}
		}
	}
	if err == nil {
		w.asked = wall
	}
	return w.list, err
}

// looked takes in which input files the host lacks of those that it looked for, a list by
// its sum; it returns the list that shots need if the agent looked for another.
func (a *Agents) looked(ctx context.Context, host string, known hosts.Heard, lookedFor string, missing []string) (wanted []string, sum string, err error) {
	list, err := a.wanted(ctx)
	if err != nil {
		return nil, "", err
	}
	if lookedFor != list.sum {
		return list.files, list.sum, nil
	}
	if known.LookedFor == list.sum && known.LookedTo != nil && known.LookedTo.Equal(list.to) && known.LacksNone && len(missing) == 0 {
		return nil, list.sum, nil // as it is stored
	}
	lacks, err := store.AsJSON(append([]string{}, missing...))
	if err == nil {
		err = hosts.Looked(a.Store.WithContext(ctx), host, list.sum, lacks, list.to)
	}
	return nil, list.sum, err
}
