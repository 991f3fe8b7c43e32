// Package kept finds what runs have done already of a shot as it is now, so that a new plan need not have it rendered again.
package kept

import (
	"context"
	"maps"
	"slices"

	"github.com/google/uuid"

	"rotanex.example/core/frames"
	"rotanex.example/providers"
	"rotanex.example/service/shots"
	"rotanex.example/service/store"
)

// Frames are those of a shot that a run has done already and that a new plan need not
// render again.
type Frames struct {
	Shot   string    `json:"shot"`
	Run    uuid.UUID `json:"run"`
	Frames string    `json:"frames"` // as of a frames.Set
	N      int       `json:"n"`
}

// earlierRuns is in how many of a shot's last runs finished frames are looked for.
const earlierRuns = 20

// Of lists the frames of a shot that runs have done as it is now: the same scene, settings, renderer and package. Of a frame that
// several did, the last one counts. Of a shot that needs the frames of others, those are done for which theirs are kept, by shot in
// inputs: what was made of others is not of these.
func Of(ctx context.Context, s *store.Store, shot shots.Shot, files []providers.PackageFile, inputs map[string]frames.Set) (out []Frames, all frames.Set, err error) {
	runs, err := runsOf(ctx, s, shot.Name)
	if err != nil {
		return nil, all, err
	}
	left := shot.Frames()
	for _, input := range shot.Spec.After {
		left = left.Minus(left.Minus(inputs[input]))
	}
	for _, r := range runs {
		if !samePicture(r.spec, shot.Spec) || !slices.EqualFunc(r.files, files, sameFile) || left.Len() == 0 {
			continue
		}
		done, err := doneIn(ctx, s, r.id, shot.Name)
		if err != nil {
			return nil, all, err
		}
		rest := left.Minus(frames.Of(done...))
		if here := left.Minus(rest); here.Len() > 0 {
			out, all = append(out, Frames{Shot: shot.Name, Run: r.id, Frames: here.String(), N: here.Len()}), all.Plus(here)
		}
		left = rest
	}
	return out, all, nil
}

// samePicture reports whether frames of a shot look the same by two descriptions of it.
func samePicture(a, b shots.Spec) bool {
	return maps.Equal(shots.Settings(a), shots.Settings(b)) && slices.Equal(a.Inputs, b.Inputs) &&
		a.Version == b.Version && slices.Equal(a.Plugins, b.Plugins)
}

func sameFile(a, b providers.PackageFile) bool {
	return a.Path == b.Path && slices.Equal(a.Chunks, b.Chunks)
}

// earlier is a run of a shot, with the shot and its package as they were when it began.
type earlier struct {
	id    uuid.UUID
	spec  shots.Spec
	files []providers.PackageFile
}
