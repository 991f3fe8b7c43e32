package app

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The store is older than the checks at the edge. One bad record in it costs that record, never a page, a plan or
// the process.
func TestABadRecordCostsItselfAlone(t *testing.T) {
	for name, statements := range map[string][]string{
		"a time without end":          {`UPDATE times SET data = jsonb_set(data, '{seconds}', '1e308') WHERE shot = 'coda-060'`},
		"a time of nothing":           {`UPDATE times SET data = jsonb_set(data, '{seconds}', '0') WHERE shot = 'coda-060'`},
		"a time below nothing":        {`UPDATE times SET data = jsonb_set(data, '{seconds}', '-5') WHERE shot = 'coda-060'`},
		"a time that is no record":    {`UPDATE times SET data = '[1]' WHERE shot = 'coda-060'`},
		"a stage without end":         {try("10", `{"seconds": 10, "stages": {"prepare": 1e308, "finish": 1}}`)},
		"a try without end":           {try("1e308", `{"seconds": 1e308}`)},
		"a try that is no record":     {try("10", `7`)},
		"a host of endless memory":    {`UPDATE hosts SET spec = jsonb_set(spec, '{memory_gb}', '1e308') WHERE name = 'eddy'`},
		"a device of endless memory":  {`UPDATE hosts SET spec = jsonb_set(spec, '{devices,0,memory_gb}', '1e308') WHERE name = 'eddy'`},
		"a host of many devices":      {`UPDATE hosts SET spec = jsonb_set(spec, '{devices}', (SELECT jsonb_agg(jsonb_build_object('id', 'g' || i, 'model', 'a', 'memory_gb', 1)) FROM generate_series(1, 20000) i)) WHERE name = 'eddy'`},
		"a host that is no record":    {`UPDATE hosts SET spec = '"x"' WHERE name = 'eddy'`},
		"a device without a backend":  {`UPDATE farms SET spec = jsonb_set(spec, '{devices}', '[{"id": "g0", "model": "a", "memory_gb": 8}]')`},
		"a farm of no work":           {`UPDATE farms SET spec = spec - 'work'`},
		"a farm's lead without end":   {`UPDATE farms SET spec = jsonb_set(spec, '{lead_s}', '2147483648')`},
		"an offer's boot without end": {`UPDATE offers SET spec = jsonb_set(spec, '{boot_s}', '2147483648')`, `UPDATE offers SET spec = jsonb_set(spec, '{setup_s}', '2147483648')`},
		"an offer of increments of 0": {`UPDATE offers SET spec = jsonb_set(spec, '{increment_s}', '0')`},
		"an offer below nothing":      {`UPDATE offers SET spec = jsonb_set(spec, '{price_h}', '"-5"')`},
		"an offer that is no record":  {`UPDATE offers SET spec = '[]'`},
		"a pool of endless seats":     {`UPDATE licences SET seats = 2147483647, extra_seats = 2147483647`},
		"a seat below nothing":        {`UPDATE licences SET extra_seats = 5, extra_seat_price = -1`},
		"a shot of endless memory":    {`UPDATE shots SET spec = jsonb_set(spec, '{device_memory_gb}', '1e308') WHERE name = 'coda-060'`},
		"a shot of no frames":         {`UPDATE shots SET spec = jsonb_set(spec, '{frames}', '"x"') WHERE name = 'coda-060'`},
		"a shot that is no record":    {`UPDATE shots SET spec = '7' WHERE name = 'coda-060'`},
	} {
		t.Run(name, func(t *testing.T) {
			b := besiege(t)
			w := b.send(t, "admin", "PUT", "/hosts/eddy", "application/json", strings.NewReader(`{"name":"eddy","source":"loft","cpu":{"model":"x","cores":16},"memory_gb":64,"power":{"price_kwh":"0.3"},"devices":[{"id":"g0","model":"a","memory_gb":24,"backends":["cuda"]}]}`), nil)
			require.Equal(t, 200, w.Code, w.Body)
			for _, statement := range statements {
				done := b.store.Exec(statement)
				require.NoError(t, done.Error)
				require.Positive(t, done.RowsAffected, statement)
			}
			b.asksEverything(t)
		})
	}
}

// try is a finished frame of the run with what was measured of it.
func try(seconds, measured string) string {
	return `WITH f AS (UPDATE frames SET state = 'done', fence = 1, host = 'bellows', crew = 'g0', done_at = now(), seconds = 10, sha256 = 'ab', bytes = 9, format = 'png' WHERE id = (SELECT min(id) FROM frames) RETURNING *)
		INSERT INTO tries (frame_id, run_id, fence, host, crew, outcome, seconds, measured, started_at, ended_at)
		SELECT id, run_id, 1, 'bellows', 'g0', 'done', ` + seconds + `, '` + measured + `', now() - interval '1 minute', now() FROM f`
}

// asksEverything asks whatever can be read, has another shot planned, and lets the service do what it does by itself.
func (b *besieged) asksEverything(t *testing.T) {
	t.Helper()
	g := &generator{Rand: rand.New(rand.NewPCG(1, 1)), known: b.known, sparse: 1}
	for _, op := range operations(t) {
		if op.method != "GET" || op.OperationID == "StreamEvents" || strings.HasPrefix(op.path, "/agent") {
			continue
		}
		path := op.path
		for _, p := range op.params {
			text := fmt.Sprint(g.value(p.Value.Name, p.Value.Schema.Value, 0))
			if p.Value.In == "path" {
				path = strings.ReplaceAll(path, "{"+p.Value.Name+"}", text)
			} else if p.Value.Required {
				path += "?" + p.Value.Name + "=" + text
			}
		}
		w := b.send(t, "admin", "GET", path, "", strings.NewReader(""), nil)
		assert.Less(t, w.Code, 500, "GET %s: %s", path, w.Body)
	}
	plan := b.send(t, "admin", "POST", "/plans", "application/json", strings.NewReader(`{"shots":["gale-010"],"by":"`+time.Now().UTC().Add(48*time.Hour).Format(time.RFC3339)+`"}`), http.Header{})
	assert.Equal(t, 201, plan.Code, "POST /plans: %s", plan.Body)
	assert.Contains(t, plan.Body.String(), `"status":"meets"`, "what is good is planned with")
	for _, w := range b.work(newLeniency(b.clock.WallNow())) {
		assert.NoError(t, w.Do(t.Context()), w.Name)
	}
	for _, fault := range strings.Split(b.said(), "; ") {
		assert.True(t, fault == "" || strings.HasPrefix(fault, "a stored value cannot be used"), fault)
	}
}
