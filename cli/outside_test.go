package cli

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
	"rotanex.example/core/stock"
)

// shown prints something as a table would be.
func shown(t *testing.T, do func(a *app, cmd *cobra.Command) error) string {
	t.Helper()
	a := &app{config: viper.New()}
	a.config.Set("output", "table")
	var out bytes.Buffer
	cmd := &cobra.Command{}
	cmd.SetOut(&out)
	require.NoError(t, do(a, cmd))
	return out.String()
}

func TestWhatWaitsForAPersonIsSaidWithWhatToType(t *testing.T) {
	id, job := uuid.MustParse("aa110000-0000-4000-8000-000000000000"), uuid.MustParse("bb220000-0000-4000-8000-000000000000")
	run := api.Run{
		Id: id, State: api.RunStateRunning, Currency: "EUR", CostSoFar: "1.20", PlannedCost: "4.10",
		Waiting: []api.Waiting{
			{Run: id, What: api.WaitingProofs, Shot: "stair-030", Farm: "ebb", Job: &job, Frames: 40},
			{Run: id, What: api.WaitingProposal},
			{Run: id, What: api.WaitingStranded, Shot: "orrery-020", Frames: 7, Why: "eddy is not heard of"},
		},
	}
	var said []string
	for _, x := range run.Waiting {
		said = append(said, nextStep(x))
	}
	assert.Equal(t, []string{
		"rotanex farms proofs bb220000 --run aa110000 --to FOLDER  looks at the proof frames of stair-030 at ebb",
		"rotanex runs accept aa110000  takes the schedule that is proposed; runs changes shows it",
		"rotanex replan aa110000 --apply  for nobody is left to render 7 frames of orrery-020: eddy is not heard of",
	}, said)
	var page strings.Builder
	drawRun(&page, run, api.FrameMap{}, 100, 40)
	assert.Contains(t, stripped(page.String()), "needs you rotanex farms proofs bb220000")
}

func TestWaitsAreShownRoundedAndAsARange(t *testing.T) {
	typical := func(w api.Wait) float64 { return w.TypicalS }
	assert.Equal(t, none, waitText(api.Source{}, typical))
	assert.Equal(t, "12 min 00 s", waitText(api.Source{Waits: []api.Wait{{TypicalS: 719}}}, typical))
	assert.Equal(t, "14 min 00 s to 1 h 07 min", waitText(api.Source{Waits: []api.Wait{{TypicalS: 4021}, {TypicalS: 847}, {TypicalS: 900}}}, typical))
	assert.Equal(t, "15 min 00 s", waitText(api.Source{Waits: []api.Wait{{TypicalS: 899}, {TypicalS: 901}}}, typical), "alike within a minute")
}

func TestASourcesStateSaysWhatIsMissing(t *testing.T) {
	for want, s := range map[string]api.Source{
		"no rate":        {FactorFault: "no exchange rate", Spec: api.SourceSpec{Address: "x"}},
		"× 0.02":         {Factor: "0.020000"},
		"× 1.416":        {Factor: "1.416000"},
		"× 12":           {Factor: "12.000000"},
		"× 0.1083190001": {Factor: "0.1083190001"},
	} {
		assert.Equal(t, want, factorText(s))
	}
	assert.Equal(t, "has no address", sourceState(api.Source{}))
	assert.Equal(t, "refused", sourceState(api.Source{Fault: "refused", Spec: api.SourceSpec{Address: "x"}}))
	assert.Equal(t, "not asked yet", sourceState(api.Source{Spec: api.SourceSpec{Address: "x"}}))
	assert.Equal(t, "reached", sourceState(api.Source{Asked: true, Spec: api.SourceSpec{Address: "x"}}))
}

func TestSourcesSideBySide(t *testing.T) {
	before := api.SourceComparison{Basis: api.SourceComparisonBasisEstimated, Currency: "EUR", Rows: []api.SourceRow{
		{Source: "loft", Status: api.SourceRowStatusLate, Cost: "0.76", ElapsedS: 15960, RenderedS: 47820, Usable: 320, FrameCost: "0.0024", Marks: []api.SourceRowMarks{api.SourceRowMarksBaseline}, MeasuredShare: 1},
		{Source: "saltmarsh", Status: api.SourceRowStatusImpossible, Unsupported: []string{"ebb: no foam", "neap: no foam", "spring: no foam", "four", "five"}},
	}}
	text := shown(t, func(a *app, cmd *cobra.Command) error { return a.showSources(cmd, before) })
	for _, want := range []string{"baseline, late", "EUR 0.76", "4 h 26 min", "cannot render it", "· saltmarsh: ebb: no foam", "and 2 more on saltmarsh", "saves", "measured", "100 %"} {
		assert.Contains(t, text, want)
	}
	for _, not := range []string{"estimated", "failed"} {
		assert.NotContains(t, strings.SplitN(text, "\n", 2)[0], not, "nothing was charged yet")
	}
	after := before
	after.Basis = api.SourceComparisonBasisCharged
	head := strings.SplitN(shown(t, func(a *app, cmd *cobra.Command) error { return a.showSources(cmd, after) }), "\n", 2)[0]
	assert.Contains(t, head, "estimated")
	assert.NotContains(t, head, "saves")
}

func TestColumnsCanBeLeftOut(t *testing.T) {
	l := listing{columns: []string{"a", "b|b_s", "c"}}
	l.add(1, 2, 3)
	l.add("4", "5", "6")
	assert.Equal(t, [][]string{{"a", "c"}, {"1", "3"}, {"4", "6"}}, l.without("b", "z").plainly())
	assert.Len(t, l.columns, 3, "the list itself is as it was")
}

func TestANodeInAFewWords(t *testing.T) {
	assert.Equal(t, "64 cores", nodeText(stock.Farm{CPU: stock.CPU{Cores: 64}}))
	assert.Equal(t, "16 cores + Halyard 12", nodeText(stock.Farm{CPU: stock.CPU{Cores: 16}, Devices: []stock.Device{{Model: "Halyard 12"}}}))
}

// tree writes files of some sizes below a folder.
func tree(t *testing.T, sizes map[string]int) string {
	t.Helper()
	folder := t.TempDir()
	for path, size := range sizes {
		data := make([]byte, size)
		_, _ = rand.Read(data)
		full := filepath.Join(folder, filepath.FromSlash(path))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, data, 0o600))
	}
	return folder
}

func TestAPackagesFilesAreThoseBelowTheFolder(t *testing.T) {
	folder := tree(t, map[string]int{"gears.yaml": 10, "tex/brass.exr": 20, "tex/deep/rust.exr": 30, "other.yaml": 5})
	all, err := filesBelow(folder, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"gears.yaml", "other.yaml", "tex/brass.exr", "tex/deep/rust.exr"}, all)
	some, err := filesBelow(folder, []string{"tex", "gears.yaml", "tex/brass.exr"})
	require.NoError(t, err)
	assert.Equal(t, []string{"gears.yaml", "tex/brass.exr", "tex/deep/rust.exr"}, some, "each once")
	_, err = filesBelow(folder, []string{"gone"})
	assert.ErrorContains(t, err, "gone below")
	_, err = filesBelow(folder, []string{"../x"})
	assert.Error(t, err)
	_, err = filesBelow(t.TempDir(), nil)
	assert.ErrorContains(t, err, "no file there")

	require.NoError(t, os.Symlink("brass.exr", filepath.Join(folder, "tex", "alias.exr")))
	some, err = filesBelow(folder, []string{"tex"})
	require.NoError(t, err)
	assert.Contains(t, some, "tex/alias.exr", "what a link leads to is in its place")
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(folder, "tex", "away")))
	_, err = filesBelow(folder, []string{"tex"})
	assert.ErrorContains(t, err, "tex/away is a link that leads out of")
}

func TestWhatAShotNeedsIsFoundMissingBeforeItIsSent(t *testing.T) {
	shot := api.ShotSpec{Scene: "./gears.yaml", Inputs: []string{"tex/brass.exr", "tex//rust.exr"}}
	assert.Equal(t, []string{"tex//rust.exr"}, lacking(shot, []string{"gears.yaml", "tex/brass.exr"}))
	assert.Empty(t, lacking(shot, []string{"gears.yaml", "tex/brass.exr", "tex/rust.exr"}))
}

// Files are cut so that their chunks, put together, are the files again, and equal
// content is one chunk.
func TestFilesAreCutIntoChunksOfTheirContent(t *testing.T) {
	folder := tree(t, map[string]int{"big": chunkSize*2 + 17, "whole": chunkSize, "small": 3, "empty": 0})
	data, err := os.ReadFile(filepath.Join(folder, "small"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "twin"), data, 0o600))
	paths := []string{"big", "empty", "small", "twin", "whole"}
	files, where, err := cut(folder, paths)
	require.NoError(t, err)
	assert.Len(t, where, 3+1+1)
	for i, f := range files {
		want, err := os.ReadFile(filepath.Join(folder, paths[i]))
		require.NoError(t, err)
		var got []byte
		for _, sum := range f.Chunks {
			p := where[sum]
			require.LessOrEqual(t, p.size, chunkSize)
			file, err := os.ReadFile(p.path)
			require.NoError(t, err)
			part := file[p.at : p.at+int64(p.size)]
			assert.Equal(t, sum, fmt.Sprintf("%x", sha256.Sum256(part)))
			got = append(got, part...)
		}
		assert.True(t, bytes.Equal(want, got), f.Path)
		assert.EqualValues(t, len(want), f.Size)
	}
	assert.Equal(t, []int{3, 0, 1, 1, 1}, []int{len(files[0].Chunks), len(files[1].Chunks), len(files[2].Chunks), len(files[3].Chunks), len(files[4].Chunks)})
}

func TestCrewsOfARunAsAList(t *testing.T) {
	l := runCrews(api.Run{Crews: []api.RunCrew{{Host: "eddy", Crew: "g0", Source: "loft", Booked: 9, Done: 4, MeanS: 31, State: api.RunCrewStateRendering, Shot: "stair-030", Frame: 7}}})
	assert.Equal(t, [][]string{{"eddy/g0", "loft", "9", "4", "31.0 s", "rendering", "stair-030", "7"}}, l.texts())
	assert.IsType(t, api.Run{}, l.records)
}

func TestTheEndOfARunIsAnExitStatus(t *testing.T) {
	assert.NoError(t, ended(api.Run{State: api.RunStateComplete}))
	err := ended(api.Run{Id: uuid.New(), State: api.RunStateIncomplete, Counts: api.FrameCounts{Done: 3, Failed: 2}, Ended: time.Now()})
	var status exit
	require.ErrorAs(t, err, &status)
	assert.Equal(t, ExitIncomplete, status.status)
	assert.Contains(t, err.Error(), "2 of 5 frames failed")
}
