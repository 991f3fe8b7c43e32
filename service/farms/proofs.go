package farms

import (
	"context"
	"errors"
	"fmt"
	"math"

	"rotanex.example/service/pictures"
	"rotanex.example/service/standing"
)

// How far a farm's proof frame may be from what was rendered elsewhere before a person
// has to look at it. Noise differs from device to device; light, colour and missing
// things differ by more.
const (
	leastSSIM = 0.80 // of the same frame
	mostApart = 0.06 // of the look of the nearest frames
	nearest   = 4    // how many of them
)

// compared is what the pictures of a job's proof frames say.
type compared struct {
	doubt string // why a person should look; "" for none
	with  int    // how many proof frames there was something to compare with
}

// compareProofs lays a job's proof frames beside frames of the shot that were rendered
// elsewhere: the same frame if there is one, else how the nearest look from afar.
func (f *Farms) compareProofs(ctx context.Context, j job) (out compared, err error) {
	for _, n := range j.proofs {
		proof, err := f.standing.PictureOf(ctx, j.run, j.shot, n)
		if errors.Is(err, pictures.ErrNoPicture) {
			continue
		}
		if err != nil {
			return out, err
		}
		near, err := f.standing.References(ctx, j.holder(), n, nearest)
		if err != nil {
			return out, err
		}
		if len(near) > 0 && near[0].Frame == n {
			d, _, err := f.pictures.Compare(ctx, near[0].Key, proof)
			if errors.Is(err, pictures.ErrNoPicture) {
				continue
			}
			out.with++
			if err == nil && d.SSIM >= leastSSIM {
				continue
			}
			out.doubt = fmt.Sprintf("frame %d is not like the same frame of %s: structural similarity %.2f, where %.2f is asked for", n, near[0].Host, d.SSIM, leastSSIM)
			return out, nil
		}
		least, at, err := f.nearestLook(ctx, proof, near)
		if errors.Is(err, pictures.ErrNoPicture) {
			continue
		}
		if err != nil {
			return out, err
		}
		out.with++
		if least > mostApart {
			out.doubt = fmt.Sprintf("frame %d does not look like its neighbours: light or colour are %.0f %% from frame %d of %s", n, 100*least, at.Frame, at.Host)
			return out, nil
		}
	}
	return out, nil
}

// nearestLook is how far a proof frame looks from the one of its references that looks most like it, and which that
// is. What cannot be looked at is left out; pictures.ErrNoPicture: nothing is left.
func (f *Farms) nearestLook(ctx context.Context, proof string, near []standing.Reference) (least float64, at standing.Reference, err error) {
	look, err := f.pictures.LookOf(ctx, proof)
	if err != nil {
		return 0, at, err
	}
	least = math.Inf(1)
	for _, x := range near {
		other, err := f.pictures.LookOf(ctx, x.Key)
		if errors.Is(err, pictures.ErrNoPicture) {
			continue
		}
		if err != nil {
			return 0, at, err
		}
		if apart := look.Apart(other); apart < least {
			least, at = apart, x
		}
	}
	if math.IsInf(least, 1) {
		return 0, at, pictures.ErrNoPicture
	}
	return least, at, nil
}
