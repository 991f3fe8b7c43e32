package httpapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"
	"pgregory.net/rapid"

	"rotanex.example/api"
)

func TestCursorsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		keys := rapid.SliceOfN(rapid.StringMatching(`[^\x00]{1,20}`), 1, 4).Draw(t, "keys")
		got, err := Keys(new(Cursor(keys...)), len(keys))
		require.NoError(t, err)
		assert.Equal(t, keys, got)
	})
	for _, bad := range []string{"%", "abc", Cursor("one", "two", "three")} {
		_, err := Keys(&bad, 2)
		assert.ErrorContains(t, err, "not a cursor")
	}
	none, err := Keys(nil, 2)
	assert.NoError(t, err)
	assert.Nil(t, none)
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
	for _, c := range []struct{ method, path, body, want string }{
		{"POST", "/plans", `{"shots":["coda-060"],"by":"2031-03-10T09:00:00Z","budget":"lots"}`, `budget "lots": want an amount of 0 or more, such as 184.20`},
		{"POST", "/plans", `{"shots":["coda-060"],"by":"2031-03-10T09:00:00Z","budget":"-5"}`, `budget "-5": want an amount of 0 or more`},
		{"POST", "/plans", `{"shots":["coda-060"],"by":"monkey"}`, `by "monkey": want a time such as 2031-03-07T20:00:00Z`},
		{"POST", "/plans", `{"shots":["coda-060"],"goal":"nice"}`, `goal "nice": want cheapest or fastest`},
		{"POST", "/plans", `{"shots":["coda-060"],"slack":1.5}`, `slack "1.5": want 0 to 0.9`},
		{"POST", "/plans", `{"shots":[]}`, "shots: want 1 or more of them"},
		{"POST", "/plans", `{"shots":["a"],"pin":[{"shot":"b","places":[]}]}`, "pin 0 places: want 1 or more of them"},
		{"GET", "/hosts/M%C3%B6we", "", `host "Möwe": want at most 63 small letters, digits`},
		{"GET", "/runs?limit=abc", "", `limit "abc": want a whole number`},
		{"GET", "/runs?limit=0", "", `limit "0": want 1 to 500`},
		{"PUT", "/shots/coda-060", `{"name":"coda-060","scene":"a","frames":"1","width":1,"height":1,"launcher":"simulated","host_memry_gb":4}`, "host_memry_gb is not known here"},
		{"PUT", "/shots/coda-060", shot(`""`, "1"), "scene is empty"},
		{"PUT", "/shots/coda-060", shot("null", "1"), "scene is missing"},
		{"PUT", "/shots/coda-060", shot("3", "1"), `scene "3": want a text`},
		{"PUT", "/shots/coda-060", shot(`"`+strings.Repeat("a", 5000)+`"`, "1"), "scene: want at most 500 characters"},
		{"PUT", "/shots/coda-060", shot(`"a"`, `"wide"`), `width "wide": want a whole number`},
		{"PUT", "/shots/coda-060", shot(`"a"`, "99999999"), `width "99999999": want 1 to 32768`},
		{"PUT", "/shots/coda-060", `{"name":"coda-060"}`, "scene is missing; frames is missing"},
		{"PUT", "/shots/coda-060", `{"name":`, "body is not JSON"},
		{"PUT", "/shots/coda-060", `[]`, "body: want an object with named values"},
		{"PUT", "/shots/coda-060", "", "body is missing"},
	} {
		r := httptest.NewRequest(c.method, "/api/v1"+c.path, strings.NewReader(c.body))
		r.Header.Set("Content-Type", "application/json")
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, r)
		var p api.Problem
		require.NoError(t, json.NewDecoder(w.Body).Decode(&p), c.path)
		assert.Equal(t, http.StatusBadRequest, w.Code)
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
