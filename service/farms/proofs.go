package farms

import (
	"context"
	"errors"
	"fmt"
	"math"

	"rotanex.example/core/picture"
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
		proof, err := f.standing.Image(ctx, j.run, j.shot, n)
		if errors.Is(err, standing.ErrNoPicture) {
			continue
		}
		if err != nil {
			return out, err
		}
		near, err := f.standing.References(ctx, j.holder(), n, nearest)
		if err != nil {
			return out, err
		}
		if len(near) == 0 {
			continue
		}
		out.with++
		if near[0].Frame == n {
			d, _, err := picture.Compare(near[0].Picture, proof)
			if err == nil && d.SSIM >= leastSSIM {
				continue
			}
			out.doubt = fmt.Sprintf("frame %d is not like the same frame of %s: structural similarity %.2f, where %.2f is asked for", n, near[0].Host, d.SSIM, leastSSIM)
			return out, nil
		}
		look, least, at := picture.LookOf(proof), math.Inf(1), near[0]
		for _, x := range near {
			if apart := look.Apart(picture.LookOf(x.Picture)); apart < least {
				least, at = apart, x
			}
		}
		if least > mostApart {
			out.doubt = fmt.Sprintf("frame %d does not look like its neighbours: light or colour are %.0f %% from frame %d of %s", n, 100*least, at.Frame, at.Host)
			return out, nil
		}
	}
	return out, nil
}
