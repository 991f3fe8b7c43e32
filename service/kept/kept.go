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

// Input is a shot whose frames others need, as it is now, and those of them that are kept.
type Input struct {
	Spec shots.Spec
	Kept frames.Set
}

// Of lists the frames of a shot that runs have done as it is now: the same scene, settings, renderer and package. Of a frame that
// several did, the last one counts. Of a shot that needs the frames of others, those are done for which theirs are kept, by shot in
// inputs, and which were made of such: what was made of others is not of these.
func Of(ctx context.Context, s *store.Store, shot shots.Shot, files []providers.PackageFile, inputs map[string]Input) (out []Frames, all frames.Set, err error) {
	of := madeOf(shot.Spec, inputs)
	runs, err := runsOf(ctx, s, shot.Name, of)
	if err != nil {
		return nil, all, err
	}
	left := shot.Frames()
	for _, input := range shot.Spec.After {
		left = left.Minus(left.Minus(inputs[input].Kept))
	}
	for _, r := range runs {
		if !samePicture(r.spec, shot.Spec) || !slices.EqualFunc(r.files, files, sameFile) || left.Len() == 0 {
			continue
		}
		if slices.ContainsFunc(of, func(name string) bool { return !samePicture(r.inputs[name], inputs[name].Spec) }) {
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

// madeOf are the shots whose frames one needs, and those that they need.
func madeOf(spec shots.Spec, inputs map[string]Input) (out []string) {
	for _, name := range spec.After {
		out = append(append(out, name), madeOf(inputs[name].Spec, inputs)...)
	}
	return out
}

// samePicture reports whether frames of a shot by one description of it are as another would have them.
func samePicture(a, b shots.Spec) bool {
	return maps.Equal(shots.Settings(a), shots.Settings(b)) && slices.Equal(a.Inputs, b.Inputs) &&
		a.Version == b.Version && slices.Equal(a.Plugins, b.Plugins) && hasFiles(a, b)
}

// hasFiles reports whether frames of one have the files that another asks for.
func hasFiles(a, b shots.Spec) bool {
	return !slices.ContainsFunc(b.Files, func(name string) bool { return !slices.Contains(a.Files, name) })
}

func sameFile(a, b providers.PackageFile) bool {
	return a.Path == b.Path && slices.Equal(a.Chunks, b.Chunks)
}

// earlier is a run of a shot, with the shot and its package as they were when it began.
type earlier struct {
	id     uuid.UUID
	spec   shots.Spec
	files  []providers.PackageFile
	inputs map[string]shots.Spec // as they were in it
}
