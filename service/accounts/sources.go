package accounts

import (
	"cmp"
	"context"
	"encoding/csv"
	"math/big"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"rotanex.example/api"
	"rotanex.example/core/ledger"
	"rotanex.example/core/pricing"
	"rotanex.example/service/farms"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/rental"
)

// CompareSources answers what each source did in a run, from its ledger: what it was
// estimated at and what it came to.
func (a *Accounts) CompareSources(w http.ResponseWriter, r *http.Request, id uuid.UUID) {
	s, err := a.Of(r.Context(), id)
	out := api.SourceComparison{Run: id, Currency: s.Currency, Basis: api.SourceComparisonBasisCharged, Rows: []api.SourceRow{}}
	if err == nil {
		out.Rows = s.bySource()
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (s Account) bySource() []api.SourceRow {
	type sum struct {
		api.SourceRow
		estimated, charged, unused pricing.Money
		first, last                time.Time
	}
	at := map[string]*sum{}
	var names []string
	get := func(name string) *sum {
		if at[name] == nil {
			at[name] = &sum{SourceRow: api.SourceRow{Source: name, Status: api.SourceRowStatusCharged}}
			names = append(names, name)
		}
		return at[name]
	}
	for _, e := range s.Entries() {
		r := get(cmp.Or(e.Source, "seats"))
		r.estimated, r.charged = r.estimated.Plus(e.Estimated), r.charged.Plus(e.Charged)
		switch e.Kind {
		case ledger.Frames:
			r.Usable += e.Frames
			r.RenderedS += e.Time.Seconds()
		case ledger.Failed:
			r.RenderedS += e.Time.Seconds()
		case ledger.Unused, ledger.Waiting:
			r.unused = r.unused.Plus(e.Charged)
			r.UnusedS += e.Time.Seconds()
		}
	}
	for _, w := range s.Work {
		get(s.sourceAt(w.Host)).Failed += w.Failed
	}
	for _, v := range s.Servers {
		if v.StartedAt != nil {
			r := get(s.SourceOf(v.Offer))
			r.PaidS += s.Meter(v.Offer).Billed(s.server(v).Existed).Seconds()
		}
	}
	for _, span := range s.spans {
		r := get(s.sourceAt(span.Host))
		if r.first.IsZero() || span.First.Before(r.first) {
			r.first = span.First
		}
		if span.Last.After(r.last) {
			r.last = span.Last
		}
	}
	slices.Sort(names)
	rows := make([]ledger.Row, len(names))
	out := make([]api.SourceRow, len(names))
	for i, name := range names {
		r := at[name]
		r.ElapsedS = r.last.Sub(r.first).Seconds()
		rows[i] = ledger.Row{Cost: r.charged, Elapsed: r.last.Sub(r.first), Counts: false}
		r.Cost, r.Estimated, r.MeasuredShare = r.charged.String(), r.estimated.String(), 1
		if r.Usable > 0 {
			// The dearest and the cheapest frame tell sources apart: they did unlike parts.
			rows[i] = ledger.Row{Cost: r.charged.Scaled(big.NewRat(1, int64(r.Usable))), Elapsed: time.Duration(r.RenderedS / float64(r.Usable) * float64(time.Second)), Counts: true}
			r.FrameCost = FrameCost(r.charged, r.Usable)
		}
		if r.PaidS > 0 {
			r.UnusedCost = r.unused.String()
		}
		out[i] = r.SourceRow
	}
	m := ledger.Mark(rows)
	for i := range out {
		for _, x := range []struct {
			at   int
			mark api.SourceRowMarks
		}{{m.Cheapest, api.SourceRowMarksCheapest}, {m.Fastest, api.SourceRowMarksFastest}, {m.Balanced, api.SourceRowMarksBalanced}} {
			if x.at == i {
				out[i].Marks = append(out[i].Marks, x.mark)
			}
		}
	}
	return out
}

// sourceAt is where a host, a server or a farm of the run comes from.
func (s Account) sourceAt(place string) string {
	for _, j := range s.Jobs {
		if j.Farm == place {
			return j.Source
		}
	}
	return s.PlaceSource(place)
}

// span is from the first to the last try at a place.
type span struct {
	Host        string
	First, Last time.Time
}

// Entries answers with the ledger by entry, as JSON, or CSV where that is asked for.
func (a *Accounts) Entries(w http.ResponseWriter, r *http.Request, params api.ListEntriesParams) {
	out, err := a.listEntries(r.Context(), params)
	if err == nil && strings.Contains(r.Header.Get("Accept"), "text/csv") {
		w.Header().Set("Content-Type", "text/csv; charset=utf-8")
		file := csv.NewWriter(w)
		_ = file.Write([]string{"run", "day", "source", "place", "crew", "shot", "kind", "frames", "seconds", "estimated", "charged", "currency", "metered", "why"})
		for _, e := range out.Items {
			_ = file.Write([]string{
				e.Run.String(), e.Day.String(), e.Source, e.Place, e.Crew, e.Shot, string(e.Kind), strconv.Itoa(e.Frames),
				strconv.FormatFloat(e.Seconds, 'f', 3, 64), e.Estimated, e.Charged, out.Currency, e.Metered, e.Why,
			})
		}
		file.Flush()
		return
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

func (a *Accounts) listEntries(ctx context.Context, params api.ListEntriesParams) (api.EntryList, error) {
	out := api.EntryList{Items: []api.Entry{}}
	if params.Run != nil {
		if _, err := a.find(ctx, *params.Run); err != nil {
			return out, err
		}
	}
	runs, err := a.runs(ctx, params.Run)
	if err != nil {
		return out, err
	}
	var estimated, charged, failed, unused pricing.Money
	for _, run := range runs {
		one, err := a.entriesOf(ctx, run)
		if err != nil {
			return out, err
		}
		out.Currency = one.currency
		for _, e := range one.entries {
			day := e.Day.Format(time.DateOnly)
			if params.Source != nil && e.Source != *params.Source || params.Shot != nil && e.Shot != *params.Shot ||
				params.Host != nil && e.Place != *params.Host || params.Day != nil && day != params.Day.String() {
				continue
			}
			estimated, charged = estimated.Plus(e.Estimated), charged.Plus(e.Charged)
			switch e.Kind {
			case ledger.Frames:
				out.Frames += e.Frames
			case ledger.Failed:
				failed = failed.Plus(e.Charged)
			case ledger.Unused, ledger.Waiting, ledger.Least:
				unused = unused.Plus(e.Charged)
			}
			row := api.Entry{
				Run: run.ID, Source: e.Source, Place: e.Place, Crew: e.Crew, Shot: e.Shot, Kind: api.EntryKind(e.Kind), Frames: e.Frames, Seconds: e.Time.Seconds(),
				Estimated: exact(e.Estimated), Charged: exact(e.Charged), Metered: e.Metered, Why: e.Why,
			}
			row.Day.Time = e.Day
			out.Items = append(out.Items, row)
		}
		if params.Run != nil && run.Cap != nil {
			if limit, err := pricing.ParseMoney(*run.Cap); err == nil {
				out.BudgetLeft = limit.Minus(one.outside).String()
			}
		}
	}
	out.Estimated, out.Charged, out.FailedCost, out.UnusedCost = estimated.String(), charged.String(), failed.String(), unused.String()
	if out.Frames > 0 {
		out.FrameCost = FrameCost(charged, out.Frames)
	}
	return out, nil
}

// settled is a run's ledger by entry, with what tells whether it still holds.
type settled struct {
	entries  []ledger.Entry
	currency string
	outside  pricing.Money
	state    string // of the run, when it ended
	ended    time.Time
}

// entriesOf reads a run's account. One of a run that has ended, with all its meters
// closed, is kept in memory: nothing in it changes any more, unless the run goes on.
func (a *Accounts) entriesOf(ctx context.Context, run Run) (settled, error) {
	if kept, ok := a.kept.Load(run.ID); ok && run.EndedAt != nil && run.State == kept.(settled).state && run.EndedAt.Equal(kept.(settled).ended) {
		return kept.(settled), nil
	}
	s, err := a.Of(ctx, run.ID)
	if err != nil {
		return settled{}, err
	}
	out := settled{entries: s.Entries(), currency: s.Currency, outside: s.Outside()}
	if s.EndedAt != nil && s.isSettled() {
		out.state, out.ended = s.State, *s.EndedAt
		a.kept.Store(run.ID, out)
	}
	return out, nil
}

// isSettled reports whether the meters of all servers and jobs of the run are closed.
func (s Account) isSettled() bool {
	return !slices.ContainsFunc(s.Servers, func(v rental.Server) bool { return v.State != "stopped" && v.State != "not-started" }) &&
		!slices.ContainsFunc(s.Jobs, func(j farms.Job) bool { return j.State != "ended" && j.State != "not-started" })
}

// exact writes an entry's money to a hundredth of a cent: a frame may cost less than
// one. Totals are rounded once, from what is exact.
func exact(m pricing.Money) string { return m.Rat().FloatString(4) }
