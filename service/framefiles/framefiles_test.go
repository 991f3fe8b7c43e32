package framefiles

import (
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/service/pictures"
	"rotanex.example/service/store"
	"rotanex.example/service/testdb"
	"rotanex.example/service/teststage"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// house has a frame that dune has under lease.
type house struct {
	*Files
	t     *testing.T
	db    *store.Store
	run   uuid.UUID
	frame int64
}

func newHouse(t *testing.T) *house {
	db := testdb.Open(t)
	h := &house{Files: &Files{Store: db, Pictures: pictures.New(teststage.On(db).Blobs)}, t: t, db: db, run: uuid.New()}
	h.exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, now())", h.run)
	h.exec("INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, 'gale-010', '{}')", h.run)
	require.NoError(t, db.Raw("INSERT INTO frames (run_id, shot, frame, state, fence, host) VALUES ($1, 'gale-010', 1, 'rendering', 1, 'dune') RETURNING id", h.run).Row().Scan(&h.frame))
	return h
}

func (h *house) exec(sql string, args ...any) { require.NoError(h.t, h.db.Exec(sql, args...).Error) }

func (h *house) sends(host string, fence int64, name, text string) (bool, error) {
	sum := sha256.Sum256([]byte(text))
	l := Lease{Frame: h.frame, Fence: fence, Host: host, Keys: fmt.Sprintf("runs/x/gale-010/000001-%d", fence), Width: 4, Height: 4}
	return h.Keep(h.t.Context(), l, File{Name: name, Kind: "text", Ending: "txt"}, sum[:], strings.NewReader(text))
}

// has is what the frame has, once it is done.
func (h *house) has(frame int64) (out string) {
	h.t.Helper()
	all, err := h.Of(h.t.Context(), []int64{frame})
	require.NoError(h.t, err)
	for _, f := range all[frame] {
		body, err := h.Pictures.Open(h.t.Context(), f.Key)
		require.NoError(h.t, err)
		text, err := io.ReadAll(body)
		require.NoError(h.t, err)
		require.NoError(h.t, body.Close())
		out += fmt.Sprintf("%s=%s ", f.Name, text)
	}
	return out
}

// Only who has the frame under lease gives it files; those that count are those of the lease that did it.
func TestFilesAreThoseOfTheLeaseThatDidTheFrame(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	send := func(want bool, host string, fence int64, name, text string) {
		t.Helper()
		kept, err := h.sends(host, fence, name, text)
		require.NoError(t, err)
		assert.Equal(t, want, kept)
	}
	send(true, "dune", 1, "depth", "first")
	send(true, "dune", 1, "depth", "second")
	send(true, "dune", 1, "matte", "of before")
	send(false, "gale", 1, "depth", "another host's")
	send(false, "dune", 2, "depth", "of a lease to come")

	h.exec("UPDATE frames SET fence = 2, host = 'gale'")
	send(false, "dune", 1, "depth", "late")
	send(true, "gale", 2, "depth", "third")
	require.ErrorContains(t, h.Complete(t.Context(), Lease{Frame: h.frame, Fence: 2}, []string{"depth", "matte"}), `"matte"`)
	require.NoError(t, h.Complete(t.Context(), Lease{Frame: h.frame, Fence: 2}, []string{"depth"}))
	assert.Empty(t, h.has(h.frame), "it is not done")

	h.exec("UPDATE frames SET state = 'done'")
	send(true, "gale", 2, "depth", "third") // an answer that was lost
	send(false, "gale", 2, "depth", "other")
	send(false, "gale", 2, "notes", "too late")
	assert.Equal(t, "depth=third ", h.has(h.frame))
	_, err := h.Named(t.Context(), h.frame, "matte")
	require.ErrorContains(t, err, "those are depth")
}

func TestWhatIsUnfitIsNotKept(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	_, err := h.sends("dune", 1, "notes", "\xff")
	require.ErrorContains(t, err, "no text in UTF-8")
	h.exec("UPDATE frames SET state = 'done'")
	assert.Empty(t, h.has(h.frame))
}

func TestAFrameHasSoManyFilesAtMost(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.exec("INSERT INTO frame_files (frame_id, name, fence, kind, ending, sha256, bytes, key) SELECT $1, 'layer_' || n, 1, 'text', 'txt', '', 1, 'x' FROM generate_series(1, 100) n", h.frame)
	_, err := h.sends("dune", 1, "depth", "one more")
	require.ErrorContains(t, err, "one more than the 100 files")
	kept, err := h.sends("dune", 1, "layer_7", "another in its place")
	require.NoError(t, err)
	assert.True(t, kept)
}

// A run that takes a frame over has its files, also once the other run is gone.
func TestFilesAreTakenOverWithTheirFrame(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	_, err := h.sends("dune", 1, "depth", "far")
	require.NoError(t, err)
	h.exec("UPDATE frames SET state = 'done'")
	next, id := uuid.New(), int64(0)
	h.exec("INSERT INTO runs (id, kind, request, state, tries, created_at) VALUES ($1, 'run', '', 'running', 3, now())", next)
	h.exec("INSERT INTO run_shots (run_id, shot, spec) VALUES ($1, 'gale-010', '{}')", next)
	require.NoError(t, h.db.Raw("INSERT INTO frames (run_id, shot, frame, state, fence, from_run) VALUES ($1, 'gale-010', 1, 'done', 1, $2) RETURNING id", next, h.run).Row().Scan(&id))
	require.NoError(t, TakeOver(h.db.DB, next, h.run, "gale-010", []int{1}))
	h.exec("DELETE FROM frames WHERE run_id = $1", h.run)
	assert.Equal(t, "depth=far ", h.has(id))
	assert.Empty(t, h.has(h.frame))
}
