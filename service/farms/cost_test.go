package farms

import (
	"crypto/sha256"
	"encoding/hex"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/core/pricing"
	"rotanex.example/providers"
)

// spends sets the run's cap; a farm without a minimum charge asks EUR 0.025 for a frame as planned.
func (f *field) spends(most string) {
	require.NoError(f.t, f.db.Exec("UPDATE runs SET cap = $1::numeric", most).Error)
	require.NoError(f.t, f.db.Exec(`UPDATE farms SET spec = jsonb_set(spec, '{work,minimum_charge}', '"0"')`).Error)
}

// costs lets the farm say that frame 1 is done and took 40 minutes, EUR 1.00, and that frame 2 is in work.
func (f *field) costs() {
	f.says(providers.Rendering, providers.JobFrame{Frame: 1, State: providers.FrameFailed, Tries: 9, Seconds: 2400}, providers.JobFrame{Frame: 2, State: providers.FrameRendering, Tries: 1},
		providers.JobFrame{Frame: 3, State: providers.FrameWaiting}, providers.JobFrame{Frame: 4, State: providers.FrameWaiting})
	f.status.NodeSeconds, f.status.Charge = 2400, pricing.MustMoney("1.00")
}

func TestAsManyFramesAreSentAsTheCapPaysFor(t *testing.T) {
	f := newField(t)
	f.spends("0.08")
	f.goes("sending")
	assert.Equal(t, 2, f.frames("rendering"), "two may take half as long again, three may not")
	assert.Contains(t, f.job().Trouble, "2 of 4 frames are not sent: all for EUR 0.15 would exceed the run's cap: EUR 0.00 are spent or committed of 0.08")
	var owed int
	require.NoError(t, f.db.Raw("SELECT sum(frames - taken) FROM bookings").Row().Scan(&owed))
	assert.Zero(t, owed, "the others are anybody's")
}

func TestFramesAreTakenBackBeforeTheyAreTooMuch(t *testing.T) {
	f := newField(t)
	f.spends("2.50")
	f.at("rendering")
	f.costs()
	f.goes("rendering")
	assert.Contains(t, f.asked, "POST /jobs/JOB/withdraw")
	assert.Contains(t, f.job().Trouble, "2 frames were taken back before they were too much for the run's cap")
	assert.Equal(t, 3, f.frames("waiting"), "they, and the one that failed")
	assert.Equal(t, 1, f.frames("rendering"))
	assert.Equal(t, "2.00", pricing.MustMoney(f.job().Committed).String(), "what is in work may take as long as the longest did")
}

func TestAFarmThatTakesNothingBackIsStopped(t *testing.T) {
	f := newField(t)
	f.spends("2.50")
	f.at("rendering")
	f.costs()
	f.keeps = true
	f.goes("closing")
	assert.Contains(t, f.asked, "DELETE /jobs/JOB")
	assert.Contains(t, f.job().Trouble, "takes no frames back")
	assert.Equal(t, 4, f.frames("waiting"))
}

func TestWhatIsInWorkTooLongIsStopped(t *testing.T) {
	f := newField(t)
	f.spends("2.50")
	f.at("rendering")
	f.costs()
	f.goes("rendering")
	f.wall.Advance(55 * time.Minute)
	f.goes("rendering")
	f.asked = nil
	f.wall.Advance(5 * time.Minute)
	f.goes("closing")
	assert.Contains(t, f.asked, "DELETE /jobs/JOB", "at once")
	assert.Contains(t, f.job().Trouble, "stopped before it was too much for the run's cap")
	assert.Equal(t, 4, f.frames("waiting"))
	f.says(providers.Ended)
	f.status.NodeSeconds, f.status.Charge = 6000, pricing.MustMoney("2.50")
	f.goes("ended")
	sum, err := f.sources.Charged(t.Context(), "saltmarsh")
	require.NoError(t, err)
	assert.Equal(t, "2.50", sum.String())
}

// What the farm may charge is told to it, for when we are away: what the cap leaves.
func TestTheFarmIsToldWhatItMayCharge(t *testing.T) {
	f := newField(t)
	f.spends("2.50")
	f.goes("sending")
	j, _, err := f.find(t.Context(), f.id.String())
	require.NoError(t, err)
	most, err := f.most(t.Context(), j)
	require.NoError(t, err)
	assert.Equal(t, "2.50", most.String())
	require.NoError(t, f.db.Exec("UPDATE runs SET cap = NULL").Error)
	most, err = f.most(t.Context(), j)
	require.NoError(t, err)
	assert.Nil(t, most)
}

// A picture that is none, blank or of a wrong size is a failed try, and does not hold up those behind it.
func TestAFrameThatIsNoPictureIsGoneAround(t *testing.T) {
	f := newField(t)
	f.at("rendering")
	f.picture = []byte("no picture")
	sum := sha256.Sum256(f.picture)
	done := providers.JobFrame{State: providers.FrameDone, Tries: 1, Seconds: 60, SHA256: hex.EncodeToString(sum[:])}
	first, second := done, done
	first.Frame, second.Frame = 1, 2
	f.says(providers.Rendering, first, second)
	f.goes("rendering")
	assert.Equal(t, 2, f.frames("waiting"))
	var why string
	require.NoError(t, f.db.Raw("SELECT string_agg(DISTINCT cause || ': ' || log_tail, ' ') FROM tries WHERE outcome = 'failed'").Row().Scan(&why))
	assert.Contains(t, why, "bad-picture: ebb: ")
}

// A farm that has nothing to end any more may have its meter still, and is owed what that says.
func TestAJobThatIsGoneWhenItIsEndedIsCharged(t *testing.T) {
	f := newField(t)
	f.at("rendering")
	f.cancel()
	f.goes("closing")
	f.ended = true
	f.says(providers.Ended)
	f.goes("ended")
	sum, err := f.sources.Charged(t.Context(), "saltmarsh")
	require.NoError(t, err)
	assert.Equal(t, "1.00", sum.String())
}
