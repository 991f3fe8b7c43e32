package problems

import (
	"context"
	"maps"
	"slices"

	"github.com/google/uuid"

	"rotanex.example/core/frames"
	"rotanex.example/providers"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/shots"
)

// Kept is frames of a shot that a run has done already and that a new plan need not
// render again.
type Kept struct {
	Shot   string    `json:"shot"`
	Run    uuid.UUID `json:"run"`
	Frames string    `json:"frames"` // as of a frames.Set
	N      int       `json:"n"`
}

// earlierRuns is in how many of a shot's last runs finished frames are looked for.
const earlierRuns = 20

// doneBefore lists the frames of a shot that runs have done as it is now: the same scene,
// settings, renderer and package. Of a frame that several did, the last one counts.
func (p *Problems) doneBefore(ctx context.Context, shot shots.Shot) ([]Kept, error) {
	now, _, err := p.Packages.Of(ctx, shot.Name)
	if err != nil {
		return nil, err
	}
	runs, err := p.runsOf(ctx, shot.Name)
	if err != nil {
		return nil, err
	}
	var out []Kept
	left := shot.Frames()
	for _, r := range runs {
		if !samePicture(r.spec, shot.Spec) || !slices.EqualFunc(r.files, now.Files, sameFile) || left.Len() == 0 {
			continue
		}
		done, err := p.doneIn(ctx, r.id, shot.Name)
		if err != nil {
			return nil, err
		}
		rest := left.Minus(frames.Of(done...))
		if here := left.Minus(rest); here.Len() > 0 {
			out = append(out, Kept{Shot: shot.Name, Run: r.id, Frames: here.String(), N: here.Len()})
		}
		left = rest
	}
	return out, nil
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

// keepDone takes what is done already off the frames of a shot that are to be planned.
func (b *builder) keepDone(ctx context.Context, shot shots.Shot, frames int) (int, error) {
	done, err := b.doneBefore(ctx, shot)
	for _, k := range done {
		frames -= k.N
	}
	b.notes.Kept = append(b.notes.Kept, done...)
	return frames, err
}

// nothingLeft says that all that was asked for is done.
func nothingLeft(ask Ask) error {
	return httpapi.BadField("/shots", Listed(ask.Shots), "is done already, every frame, as it is now: rotanex runs list shows by which run. Ask for them `again` (rotanex plan … --again) to render them once more")
}
