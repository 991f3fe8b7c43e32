package httpapi

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"
	"pgregory.net/rapid"

	"rotanex.example/api"
)

func TestCursorsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text, number := rapid.StringMatching(`[^\x00]{0,20}`).Draw(t, "text"), rapid.Int32().Draw(t, "number")
		at, id := time.Unix(rapid.Int64Range(0, 1<<32).Draw(t, "s"), rapid.Int64Range(0, 999_999_999).Draw(t, "ns")).UTC(), uuid.New()
		var gotText string
		var gotNumber int32
		var gotAt time.Time
		var gotID uuid.UUID
		given, err := Keys(new(Cursor(text, number, at, id)), &gotText, &gotNumber, &gotAt, &gotID)
		require.NoError(t, err)
		assert.True(t, given)
		assert.Equal(t, []any{text, number, at, id}, []any{gotText, gotNumber, gotAt, gotID})
	})
	none, err := Keys(nil, new(string))
	assert.NoError(t, err)
	assert.False(t, none)
	for _, bad := range []string{
		"%", "abc", Cursor(), Cursor("one", "two"), Cursor(1), Cursor(nil), Cursor("a\x00b"),
		base64.RawURLEncoding.EncodeToString([]byte(`["a"]x`)), base64.RawURLEncoding.EncodeToString([]byte("\xff\x00")),
	} {
		_, err := Keys(&bad, new(string))
		assert.ErrorContains(t, err, "not a cursor", bad)
	}
	for _, bad := range []string{Cursor(1 << 40), Cursor(1.5), Cursor("1")} {
		_, err := Keys(&bad, new(int32))
		assert.ErrorContains(t, err, "not a cursor", bad)
	}
	_, err = Keys(new(Cursor("9999-01-01T00:00:00Z", uuid.New())), new(time.Time), new(uuid.UUID))
	assert.ErrorContains(t, err, "not a cursor")
}

func answered(t *testing.T, err error) (int, api.Problem) {
	t.Helper()
	w := httptest.NewRecorder()
	Fail(w, httptest.NewRequest(http.MethodGet, "/", nil), err)
	var p api.Problem
	require.NoError(t, json.NewDecoder(w.Body).Decode(&p))
	assert.Equal(t, "application/problem+json", w.Header().Get("Content-Type"))
	return w.Code, p
}

func TestFail(t *testing.T) {
	status, p := answered(t, BadField("/frames", "9-1", "9 comes after 1"))
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Equal(t, "/frames", p.Errors[0].Field)
	assert.Equal(t, "9-1", p.Errors[0].Value)
	status, _ = answered(t, gorm.ErrRecordNotFound)
	assert.Equal(t, http.StatusNotFound, status)
	status, p = answered(t, errors.New("password=hunter2 refused"))
	assert.Equal(t, http.StatusInternalServerError, status)
	assert.NotContains(t, p.Detail, "hunter2", "what went wrong inside is for the log")
}

// What is wrong is said with the value as it was written and what would be right.
func TestTheContractSpeaksPlainly(t *testing.T) {
	contract, err := Contract()
	require.NoError(t, err)
	handler := contract(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) }))
	shot := func(scene, width string) string {
		return fmt.Sprintf(`{"name":"coda-060","scene":%s,"frames":"1","width":%s,"height":1,"launcher":"simulated"}`, scene, width)
	}
	for _, c := range []struct {
		method, path, body, want string
		status                   int
	}{
		{"POST", "/plans", `{"shots":["coda-060"],"by":"2031-03-10T09:00:00Z","budget":"lots"}`, `budget "lots": want an amount of 0 or more, such as 184.20`, 422},
		{"POST", "/plans", `{"shots":["coda-060"],"by":"2031-03-10T09:00:00Z","budget":"-5"}`, `budget "-5": want an amount of 0 or more`, 422},
		{"POST", "/plans", `{"shots":["coda-060"],"by":"monkey"}`, `by "monkey": want a time of the years 1970 to 2199 such as 2031-03-07T20:00:00Z`, 422},
		{"POST", "/plans", `{"shots":["coda-060"],"goal":"nice"}`, `goal "nice": want cheapest or fastest`, 422},
		{"POST", "/plans", `{"shots":["coda-060"],"slack":1.5}`, `slack "1.5": want 0 to 0.9`, 422},
		{"POST", "/plans", `{"shots":[]}`, "shots: want 1 or more of them", 422},
		{"POST", "/plans", `{"shots":["a"],"pin":[{"shot":"b","places":[]}]}`, "pin 0 places: want 1 or more of them", 422},
		{"GET", "/hosts/M%C3%B6we", "", `host "Möwe": want at most 63 small letters, digits`, 422},
		{"GET", "/runs?limit=abc", "", `limit "abc": want a whole number`, 422},
		{"GET", "/runs?limit=0", "", `limit "0": want 1 to 500`, 422},
		{"PUT", "/shots/coda-060", `{"name":"coda-060","scene":"a","frames":"1","width":1,"height":1,"launcher":"simulated","host_memry_gb":4}`, "host_memry_gb is not known here", 422},
		{"PUT", "/shots/coda-060", shot(`""`, "1"), "scene is empty", 422},
		{"PUT", "/shots/coda-060", shot("null", "1"), "scene is missing", 422},
		{"PUT", "/shots/coda-060", shot("3", "1"), `scene "3": want a text`, 422},
		{"PUT", "/shots/coda-060", shot(`"`+strings.Repeat("a", 5000)+`"`, "1"), "scene: want at most 500 characters", 422},
		{"PUT", "/shots/coda-060", shot(`"a"`, `"wide"`), `width "wide": want a whole number`, 422},
		{"PUT", "/shots/coda-060", shot(`"a"`, "99999999"), `width "99999999": want 1 to 32768`, 422},
		{"PUT", "/shots/coda-060", `{"name":"coda-060"}`, "scene is missing; frames is missing", 422},
		{"PUT", "/shots/coda-060", `{"name":`, "body is not JSON", 400},
		{"PUT", "/shots/coda-060", `[]`, "body: want an object with named values", 422},
		{"PUT", "/shots/coda-060", "", "body is missing", 400},
	} {
		r := httptest.NewRequest(c.method, "/api/v1"+c.path, strings.NewReader(c.body))
		r.Header.Set("Content-Type", "application/json")
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, r)
		var p api.Problem
		require.NoError(t, json.NewDecoder(w.Body).Decode(&p), c.path)
		assert.Equal(t, p.Status, w.Code)
		assert.Equal(t, c.status, w.Code, c.want)
		assert.Contains(t, p.Detail, c.want)
		for _, word := range []string{"^", "schema", "string", "property", "invalid"} {
			assert.NotContains(t, p.Detail, word, "the words are ours")
		}
	}
}

// A form that a text has to have is described, for no pattern is shown to people.
func TestEveryPatternIsDescribed(t *testing.T) {
	text, err := os.ReadFile("../../api/openapi.yaml")
	require.NoError(t, err)
	for line := range strings.SplitSeq(string(text), "\n") {
		_, after, is := strings.Cut(line, "pattern:")
		assert.True(t, !is || strings.Contains(after, "description:"), line)
	}
}

// The matched operation decides what is read of a body, of which kind and how much of it.
func TestTheOperationDecidesWhatIsRead(t *testing.T) {
	contract, err := Contract()
	require.NoError(t, err)
	var read int64
	handler := contract(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, err := io.Copy(io.Discard, r.Body)
		if read += n; err != nil {
			Fail(w, r, err)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	}))
	shot := `{"name":"coda-060","scene":"a","frames":"1","width":-5,"height":1,"launcher":"simulated"}`
	for name, c := range map[string]struct {
		method, path, kind string
		body               io.Reader
		status             int
	}{
		"endless text as another kind":  {"POST", "/session", "application/octet-stream", endless('a'), 415},
		"endless text as JSON":          {"POST", "/session", "application/json", io.MultiReader(strings.NewReader(`{"token":"`), endless('a')), 413},
		"endless text of no kind":       {"POST", "/agent/join", "", io.MultiReader(strings.NewReader(`{"secret":"`), endless('a')), 413},
		"endless CSV":                   {"POST", "/times", "text/csv", endless('a'), 413},
		"an endless picture":            {"PUT", "/chunks/" + strings.Repeat("0", 64), "application/octet-stream", endless('a'), 413},
		"a shot as CSV":                 {"PUT", "/shots/coda-060", "text/csv", strings.NewReader(shot), 415},
		"a shot as text of its own":     {"PUT", "/shots/coda-060", "application/json; charset=utf-8", strings.NewReader(shot), 422},
		"a shot of no kind":             {"PUT", "/shots/coda-060", "", strings.NewReader(shot), 422},
		"what is no kind":               {"PUT", "/shots/coda-060", ";;;", strings.NewReader(shot), 415},
		"a body where none is asked":    {"GET", "/runs", "application/json", endless('a'), 204},
		"a body that says it is larger": {"POST", "/session", "application/json", bytes.NewReader(make([]byte, 1<<20)), 413},
	} {
		read = 0
		r := httptest.NewRequest(c.method, "/api/v1"+c.path, c.body)
		if c.kind != "" {
			r.Header.Set("Content-Type", c.kind)
		}
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, r)
		assert.Equal(t, c.status, w.Code, "%s: %s", name, w.Body)
		assert.LessOrEqual(t, read, int64(21<<20), name)
	}
}

// endless reads as one letter for ever.
type endless byte

func (e endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = byte(e)
	}
	return len(p), nil
}

// What PostgreSQL cannot keep is refused wherever it stands, and named.
func TestWhatIsNoTextIsRefused(t *testing.T) {
	contract, err := Contract()
	require.NoError(t, err)
	handler := contract(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) }))
	nul := "\\u0000"
	for _, c := range []struct{ method, path, body, key, want string }{
		{"PUT", "/shots/coda-060", `{"name":"coda-060","scene":"a` + nul + `","frames":"1","width":1,"height":1,"launcher":"simulated"}`, "", "scene has a NUL"},
		{"PUT", "/shots/coda-060", `{"name":"coda-060","scene":"a","frames":"1","width":1,"height":1,"launcher":"simulated","inputs":["b","` + nul + `"]}`, "", "inputs 1 has a NUL"},
		{"PUT", "/shots/coda-060", `{"name":"coda-060","scene":"a","frames":"1","width":1,"height":1,"launcher":"simulated","settings":{"b` + nul + `":"c"}}`, "", "settings has a NUL"},
		{"GET", "/hosts?cursor=%00", "", "", `is no text`},
		{"GET", "/hosts?cursor=%ff", "", "", `is no text`},
		{"POST", "/plans", `{"shots":["coda-060"]}`, "12345678\xff", `is no text`},
	} {
		r := httptest.NewRequest(c.method, "/api/v1"+c.path, strings.NewReader(c.body))
		r.Header.Set("Idempotency-Key", c.key)
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, r)
		assert.Equal(t, http.StatusUnprocessableEntity, w.Code, c.want)
		assert.Contains(t, w.Body.String(), c.want)
	}
	written := httptest.NewRequest("PUT", "/api/v1/shots/coda-060", strings.NewReader(`{"name":"coda-060","scene":"a\`+nul+`","frames":"1","width":1,"height":1,"launcher":"simulated"}`))
	written.Header.Set("User-Agent", "M\xf6we")
	w := httptest.NewRecorder()
	handler.ServeHTTP(w, written)
	assert.Equal(t, http.StatusNoContent, w.Code, "a backslash and digits are no NUL, and headers that nobody reads are nobody's business")
}

// Every number, text and list that can be sent has bounds, and every body a size: what has none is not let into the contract.
func TestWhateverIsSentIsBounded(t *testing.T) {
	doc, err := api.GetSpec()
	require.NoError(t, err)
	seen := map[*openapi3.Schema]bool{}
	for path, item := range doc.Paths.Map() {
		for method, operation := range item.Operations() {
			at := method + " " + path
			for _, p := range slices.Concat(item.Parameters, operation.Parameters) {
				bounded(t, at+" "+p.Value.Name, p.Value.Schema.Value, seen)
			}
			if operation.RequestBody == nil {
				continue
			}
			for kind, content := range operation.RequestBody.Value.Content {
				if kind == binaryBody {
					assert.Contains(t, content.Extensions, "x-max-bytes", at)
					continue
				}
				bounded(t, at, content.Schema.Value, seen)
			}
		}
	}
}

func bounded(t *testing.T, at string, s *openapi3.Schema, seen map[*openapi3.Schema]bool) {
	t.Helper()
	if seen[s] {
		return
	}
	seen[s] = true
	endless := regexp.MustCompile(`(?:^|[^\\\\])[*+]`)
	switch {
	case s.Type.Is("string"):
		ends := s.MaxLength != nil || len(s.Enum) > 0 || slices.Contains([]string{"uuid", "date-time", "date"}, s.Format) || s.Pattern != "" && !endless.MatchString(s.Pattern)
		assert.True(t, ends, "%s: a text without maxLength", at)
	case s.Type.Is("integer"), s.Type.Is("number"):
		assert.True(t, s.Min != nil && s.Max != nil, "%s: a number without minimum and maximum", at)
	case s.Type.Is("array"):
		assert.NotNil(t, s.MaxItems, "%s: a list without maxItems", at)
		bounded(t, at+"/0", s.Items.Value, seen)
	case s.AdditionalProperties.Schema != nil:
		assert.NotNil(t, s.MaxProps, "%s: a map without maxProperties", at)
		bounded(t, at+"/*", s.AdditionalProperties.Schema.Value, seen)
	}
	for name, p := range s.Properties {
		bounded(t, at+"/"+name, p.Value, seen)
	}
}

// What a heartbeat has beside the leases never keeps them from being renewed.
func TestAHeartbeatIsTakenAsFarAsItIsGood(t *testing.T) {
	contract, err := Contract()
	require.NoError(t, err)
	var taken api.Heartbeat
	var left []string
	handler := contract(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		taken, err = Body[api.Heartbeat](r)
		assert.NoError(t, err)
		left = LeftOut(r.Context())
		w.WriteHeader(http.StatusNoContent)
	}))
	const boot = `"boot":"7f1f3f0e-5b1c-4c7e-9d2a-0c1d2e3f4a5b"`
	many := func(n int, item string) string {
		return "[" + strings.TrimSuffix(strings.Repeat(item+",", n), ",") + "]"
	}
	for name, c := range map[string]struct {
		body                   string
		held, samples, missing int
		says                   string
	}{
		"as it should be":          {`{` + boot + `,"held":[{"lease":1,"fence":1}]}`, 1, 0, 0, ""},
		"too many files":           {`{` + boot + `,"held":[{"lease":1,"fence":1}],"missing":` + many(10_001, `"a"`) + `}`, 1, 0, 10_000, "missing"},
		"a use that is more":       {`{` + boot + `,"held":[{"lease":1,"fence":1}],"samples":[{"device":"g0","use":1.0000001,"watts":5},{"device":"g1","use":1}]}`, 1, 2, 0, "use"},
		"too many samples":         {`{` + boot + `,"held":[{"lease":1,"fence":1}],"samples":` + many(65, `{"device":"g0"}`) + `}`, 1, 64, 0, "samples"},
		"a clock below none":       {`{` + boot + `,"held":[{"lease":1,"fence":1}],"samples":[{"device":"g0","mhz":-1}]}`, 1, 1, 0, "mhz"},
		"a sample of nothing":      {`{` + boot + `,"held":[{"lease":1,"fence":1}],"samples":[{"use":0.5},{"device":"g0"},7,null]}`, 1, 1, 0, "device"},
		"progress beyond the end":  {`{` + boot + `,"held":[{"lease":1,"fence":1,"progress":1.5},{"lease":2,"fence":2}]}`, 2, 0, 0, "progress"},
		"a lease that is none":     {`{` + boot + `,"held":[{"lease":-1,"fence":1},{"lease":2,"fence":2}]}`, 1, 0, 0, "lease"},
		"what nobody knows":        {`{` + boot + `,"held":[{"lease":1,"fence":1}],"news":1}`, 1, 0, 0, "news"},
		"samples that are no list": {`{` + boot + `,"held":[{"lease":1,"fence":1}],"samples":"none"}`, 1, 0, 0, "samples"},
		"a desk of no state":       {`{` + boot + `,"held":[{"lease":1,"fence":1}],"desk":{"state":"away","by_hand":true,"kept":[]}}`, 1, 0, 0, "state"},
	} {
		taken, left = api.Heartbeat{}, nil
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, httptest.NewRequest("POST", "/api/v1/agent/heartbeat", strings.NewReader(c.body)))
		require.Equal(t, http.StatusNoContent, w.Code, "%s: %s", name, w.Body)
		assert.Equal(t, []int{c.held, c.samples, c.missing}, []int{len(taken.Held), len(taken.Samples), len(taken.Missing)}, name)
		assert.Contains(t, strings.Join(left, ";"), c.says, name)
		assert.Equal(t, c.says == "", left == nil, name)
	}
	for name, body := range map[string]string{"no boot": `{"held":[]}`, "a boot that is none": `{"boot":"x","held":[]}`, "no leases": `{` + boot + `}`, "a list": `[]`, "nothing": ``, "no JSON": `{`} {
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, httptest.NewRequest("POST", "/api/v1/agent/heartbeat", strings.NewReader(body)))
		assert.Contains(t, []int{400, 422}, w.Code, name)
	}
}

// Whatever is sent, the contract answers with a problem or lets it through; it
// does not fall over.
func FuzzContract(f *testing.F) {
	contract, err := Contract()
	require.NoError(f, err)
	handler := contract(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) }))
	f.Add("PUT", "/shots/coda-060", `{"name":"coda-060","scene":"a","frames":"1","width":1,"height":1,"launcher":"simulated"}`)
	f.Add("POST", "/plans", `{"shots":[]}`)
	f.Add("GET", "/runs/1/frames/a/b", ``)
	f.Fuzz(func(t *testing.T, method, path, body string) {
		r, err := http.NewRequest(method, "http://127.0.0.1/api/v1"+path, strings.NewReader(body))
		if err != nil {
			return
		}
		r.Header.Set("Content-Type", "application/json")
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, r)
		if w.Code != http.StatusNoContent {
			assert.Less(t, w.Code, 500)
			assert.Equal(t, "application/problem+json", w.Header().Get("Content-Type"))
		}
	})
}

// What is wrong with a value can be read by itself, with the name that the user wrote.
func TestWhatIsWrongHasASubject(t *testing.T) {
	for want, p := range map[string]*Problem{
		`by "2031-03-07T00:00:00Z" is past: it is Monday now`: BadField("/by", "2031-03-07T00:00:00Z", "is past: it is Monday now"),
		`slack "2": want a share of the time`:                 BadField("/slack", "2", "want a share of the time"),
		`pin 0 shot "lamp" is listed twice`:                   BadField("/pin/0/shot", "lamp", "is listed twice"),
		`budget has to be more`:                               BadField("/budget", "", "has to be more"),
		`nowhere is no host`:                                  BadField("/without/0", "nowhere", "nowhere is no host"),
	} {
		assert.Equal(t, want, p.Error())
	}
}

// A list of nothing is answered as an empty list, not as null.
func TestAnEmptyListIsAList(t *testing.T) {
	word := func(n int) string { return fmt.Sprint(n, " GB") }
	assert.Equal(t, []string{"8 GB", "24 GB"}, Each([]int{8, 24}, word))
	for _, list := range []any{Each([]int(nil), word), List[int](nil).Items} {
		text, err := json.Marshal(list)
		require.NoError(t, err)
		assert.JSONEq(t, "[]", string(text))
	}
}

// What could not be answered is not kept as the answer that it was to be.
func TestAFailureIsNotCached(t *testing.T) {
	t.Parallel()
	w := httptest.NewRecorder()
	w.Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	w.Header().Set("ETag", `"x"`)
	Fail(w, httptest.NewRequest(http.MethodGet, "/", nil), NotFound("its file is not there"))
	assert.Equal(t, http.StatusNotFound, w.Code)
	assert.Empty(t, w.Header().Get("Cache-Control"))
	assert.Empty(t, w.Header().Get("ETag"))
}
