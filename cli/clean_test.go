package cli

import (
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/api"
	"rotanex.example/core/paths"
	"rotanex.example/core/results"
)

func TestNothingInATextIsObeyed(t *testing.T) {
	for from, want := range map[string]string{
		"stair-030":                   "stair-030",
		"two\nlines\tand a tab":       "two\nlines\tand a tab",
		"\x1b[31mred\x1b[0m":          "�[31mred�[0m",
		"\x1b]0;title\x07":            "�]0;title�",
		"over\rwritten":               "over\nwritten",
		"a\bb\fc\x00d\u009be\u007ff":  "a�b�c�d�e�f",
		"\u202egnp.exe \u2066x\u2069": "�gnp.exe �x�",
		`C:\u001b\n is no escape`:     `C:\u001b\n is no escape`,
		"Möwe 🦉":                      "Möwe 🦉",
	} {
		data, err := json.Marshal(map[string]string{"name": from})
		require.NoError(t, err)
		var got map[string]string
		require.NoError(t, json.Unmarshal(cleanJSON(data), &got), "%s", cleanJSON(data))
		assert.Equal(t, want, got["name"], "%q", from)
	}
}

// Whatever is in it, JSON stays JSON, and is the same but for what would be obeyed.
func TestCleanedJSONIsJSON(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.String().Draw(t, "text")
		data, err := json.Marshal([]any{text, 1.5, nil, map[string]string{text: text}})
		require.NoError(t, err)
		var got []any
		require.NoError(t, json.Unmarshal(cleanJSON(data), &got))
		for i, r := range []rune(got[0].(string)) {
			assert.False(t, obeyed(r), "%q", r)
			if was := []rune(text)[i]; !obeyed(was) && was != unicode.ReplacementChar {
				assert.Equal(t, was, r)
			}
		}
		once := cleanJSON(data)
		assert.Equal(t, string(once), string(cleanJSON(once)))
	})
}

func TestWhatIsPrintedIsClean(t *testing.T) {
	s := served()
	s.answers["/seats"] = map[string]any{"items": []api.Seat{}}
	s.answers["/licences"] = map[string]any{"items": []api.Licence{{Pool: "\x1b[31mkiln", Kind: "floating", Seats: 5}}}
	_, out, _ := s.types(t, "licences", "list")
	assert.NotContains(t, out, "\x1b")
	assert.Contains(t, out, "�[31mkiln")
	_, out, _ = s.types(t, "licences", "list", "--output", "json")
	assert.Contains(t, out, `\u001b[31mkiln`, "as it is")
	s.answers["/licences"] = map[string]any{"items": []api.Licence{{Pool: "=1+1", Kind: "floating", Seats: 5}}}
	_, out, _ = s.types(t, "licences", "list", "--output", "csv")
	assert.Contains(t, out, "'=1+1")

	frame := "/runs/" + aRun.Id.String() + "/frames/stair-030/1"
	s.answers[frame] = api.FrameDetail{Frame: api.Frame{Shot: "stair-030", Frame: 1}, Tries: []api.Try{{Fence: 2, LogBytes: 9}, {Fence: 3}}}
	s.before = func(w http.ResponseWriter, path string) bool {
		if path != frame+"/tries/2/log" {
			return false
		}
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = w.Write([]byte("opening\n\x1b]0;title\x07 Warning: \u202egnp\n"))
		return true
	}
	_, out, _ = s.types(t, "frames", "log", "latest", "stair-030", "1")
	assert.Equal(t, "opening\n�]0;title� Warning: �gnp\n", out, "a renderer says what it likes")
	_, out, _ = s.types(t, "frames", "log", "latest", "stair-030", "1", "--search", "warning")
	assert.Equal(t, "     2  �]0;title� Warning: �gnp\n", out)
	_, out, _ = s.types(t, "frames", "log", "latest", "stair-030", "1", "--output", "json")
	assert.Contains(t, out, `{"line":2,"text":"\u001b]0;title\u0007`)
	_, _, errs := s.types(t, "frames", "log", "latest", "stair-030", "1", "--try", "3")
	assert.Contains(t, errs, "there is no "+frame+"/tries/3/log")

	for text, want := range map[string]string{"": "", "a": "a", "=1": "'=1", "-5.5": "-5.5", "+1e3": "+1e3", "-x": "'-x", "@a": "'@a", "\tx": "'\tx"} {
		assert.Equal(t, want, asCell(text))
	}
}

// A service is not trusted with a path of this machine.
func TestADownloadStaysInItsFolder(t *testing.T) {
	for _, name := range []string{"../evil", "a/b", "/etc/evil", "..", "", "a\\b", "a\nb"} {
		s := served()
		s.answers["/runs/"+aRun.Id.String()+"/frames"] = api.FrameList{Items: []api.Frame{{Shot: name, Frame: 1, State: api.FrameStateDone, Sha256: "ab", Format: "png"}}}
		status, _, errs := s.types(t, "download", "latest", "--to", t.TempDir())
		assert.NotZero(t, status, name)
		assert.Contains(t, errs, "no name of a file", name)
	}
}

// A name that two files would have is found before anything is copied; names are those of core/results.
func TestADownloadIsNamed(t *testing.T) {
	all := []api.Frame{
		{Shot: "lamp-040", Frame: 7, State: api.FrameStateDone, Format: "exr", Files: []api.FrameFile{{Name: "depth", Ending: "exr"}}},
		{Shot: "stair-030.beauty", Frame: 7, State: api.FrameStateDone},
		{Shot: "stair-030.beauty", Frame: 8, State: api.FrameStateWaiting},
	}
	named, err := paths.ParseTemplate(results.UsualName, results.Holes...)
	require.NoError(t, err)
	work, err := results.Name(finished(all, []api.RunShot{{Shot: "stair-030.beauty", PassOf: "stair-030", Pass: "beauty"}}), named, nil)
	require.NoError(t, err)
	var got []string
	for _, f := range work {
		got = append(got, f.Path)
	}
	assert.Equal(t, []string{"lamp-040/lamp-040.0007.exr", "lamp-040/depth/lamp-040.0007.exr", "stair-030/beauty/stair-030.0007.png"}, got)
	for args, want := range map[[2]string]string{
		{"--name", "{frame:4}.exr"}:     "depth of frame 7 of lamp-040 would be the file 0007.exr",
		{"--name", "../{shot}/{frame}"}: "want a path below the folder",
		{"--name", "{layer}/{frame}"}:   "no placeholder {layer}; there are {shot}, {pass}, {file}, {frame}, {ext}",
		{"--files", "normal"}:           `no finished frame has a file "normal"; there are depth, picture`,
		{"--files", "../x"}:             "--files ../x: ",
	} {
		s := served()
		s.answers["/runs/"+aRun.Id.String()+"/frames"] = api.FrameList{Items: all}
		to := filepath.Join(t.TempDir(), "out")
		status, _, errs := s.types(t, "download", "latest", "--to", to, args[0], args[1])
		assert.NotZero(t, status, args)
		assert.Contains(t, errs, want)
		assert.NoDirExists(t, to)
	}
}

// Who watches goes on through a service that is away for a while.
func TestWatchingGoesOn(t *testing.T) {
	s := served()
	done := aRun
	done.State, done.Counts = api.RunStateComplete, api.FrameCounts{Done: 3}
	asked := 0
	s.before = func(w http.ResponseWriter, path string) bool {
		if path != "/runs/"+aRun.Id.String() {
			return false
		}
		if asked++; asked == 2 {
			s.answers[path] = done
		}
		if asked == 1 {
			w.WriteHeader(http.StatusBadGateway)
		}
		return asked == 1
	}
	status, out, errs := s.types(t, "watch", aRun.Id.String())
	assert.Zero(t, status, errs)
	assert.Contains(t, errs, "is asked again")
	assert.Contains(t, out, "complete: 3 of 3 frames")
	assert.True(t, passing(errors.New("connection refused")))
	assert.False(t, passing(nil))
}

// A ZIP file that does not arrive whole is not there.
func TestAnArchiveIsWholeOrNotThere(t *testing.T) {
	s := served()
	s.answers["/runs/"+aRun.Id.String()+"/results"] = api.Results{Frames: 1, Of: 1, Files: 1, Bytes: 9}
	s.before = func(w http.ResponseWriter, path string) bool {
		if path != "/runs/"+aRun.Id.String()+"/results.zip" {
			return false
		}
		_, _ = w.Write([]byte("PK\x03\x04 and no more"))
		return true
	}
	folder := t.TempDir()
	status, _, errs := s.types(t, "download", "latest", "--to", filepath.Join(folder, "friday.zip"))
	assert.NotZero(t, status)
	assert.Contains(t, errs, "friday.zip did not arrive whole")
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Empty(t, left)
}
