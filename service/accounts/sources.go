package accounts

import (
	"cmp"
	"context"
	"math/big"
	"slices"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/ledger"
	"rotanex.example/core/pricing"
	"rotanex.example/service/farms"
	"rotanex.example/service/rental"
	"rotanex.example/service/states"
)

// SourceRow is what a source did in a run and cost.
type SourceRow struct {
	Source                          string
	Usable, Failed                  int // frames
	Estimated, Charged, UnusedCost  pricing.Money
	Rendered, Paid, Unused, Elapsed time.Duration
	first, last                     time.Time
}

// BySource is what each source did in the run, from its ledger: what it was estimated at
// and what it came to, with which is the cheapest, the fastest and the balanced one.
func (s Account) BySource() ([]SourceRow, ledger.Marks) {
	at := map[string]*SourceRow{}
	var names []string
	get := func(name string) *SourceRow {
		if at[name] == nil {
			at[name] = &SourceRow{Source: name}
			names = append(names, name)
		}
		return at[name]
	}
	for _, e := range s.Entries() {
		r := get(cmp.Or(e.Source, "seats"))
		r.Estimated, r.Charged = r.Estimated.Plus(e.Estimated), r.Charged.Plus(e.Charged)
		switch e.Kind {
		case ledger.Frames:
			r.Usable += e.Frames
			r.Rendered += e.Time
		case ledger.Failed:
			r.Rendered += e.Time
		case ledger.Unused, ledger.Waiting:
			r.UnusedCost = r.UnusedCost.Plus(e.Charged)
			r.Unused += e.Time
		}
	}
	for _, w := range s.Work {
		get(s.sourceAt(w.Host)).Failed += w.Failed
	}
	for _, v := range s.Servers {
		if v.StartedAt != nil {
			r := get(s.SourceOf(v.Offer))
			r.Paid += s.Meter(v.Offer).Billed(s.server(v).Existed)
		}
	}
	for _, span := range s.Tally.Sums {
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
	out := make([]SourceRow, len(names))
	for i, name := range names {
		r := at[name]
		r.Elapsed = r.last.Sub(r.first)
		rows[i] = ledger.Row{Cost: r.Charged, Elapsed: r.Elapsed}
		if r.Usable > 0 {
			// The dearest and the cheapest frame tell sources apart: they did unlike parts.
			rows[i] = ledger.Row{Cost: r.Charged.Scaled(big.NewRat(1, int64(r.Usable))), Elapsed: r.Rendered / time.Duration(r.Usable), Counts: true}
		}
		out[i] = *r
	}
	return out, ledger.Mark(rows)
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

// Wanted is which entries a list is to have.
type Wanted struct {
	Run                *uuid.UUID
	Source, Shot, Host *string
	Day                *time.Time
}

func (w Wanted) has(e ledger.Entry) bool {
	is := func(want *string, v string) bool { return want == nil || *want == v }
	return is(w.Source, e.Source) && is(w.Shot, e.Shot) && is(w.Host, e.Place) && (w.Day == nil || w.Day.Equal(e.Day))
}

// RunEntry is an entry of a run's ledger.
type RunEntry struct {
	Run uuid.UUID
	ledger.Entry
}

// Entries are the ledger by entry, with what they add up to.
type Entries struct {
	All                                        []RunEntry
	Currency                                   string
	Frames                                     int
	Estimated, Charged, FailedCost, UnusedCost pricing.Money
	Left                                       *pricing.Money // of the run's cap, of one that has one
}

// Entries lists the entries of all runs, or of one.
func (a *Accounts) Entries(ctx context.Context, want Wanted) (out Entries, err error) {
	if want.Run != nil {
		if _, err := a.find(ctx, *want.Run); err != nil {
			return out, err
		}
	}
	runs, err := a.runs(ctx, want.Run)
	if err != nil {
		return out, err
	}
	charges, err := a.ChargesOf(ctx)
	if err != nil {
		return out, err
	}
	for _, run := range runs {
		one, err := a.entriesOf(ctx, run, charges[run.ID])
		if err != nil {
			return out, err
		}
		out.Currency = one.currency
		for _, e := range one.entries {
			if want.has(e) {
				out.add(run.ID, e)
			}
		}
		if want.Run != nil && run.Cap != nil {
			if limit, err := pricing.ParseMoney(*run.Cap); err == nil {
				left := limit.Minus(one.outside)
				out.Left = &left
			}
		}
	}
	return out, nil
}

func (out *Entries) add(run uuid.UUID, e ledger.Entry) {
	out.All = append(out.All, RunEntry{run, e})
	out.Estimated, out.Charged = out.Estimated.Plus(e.Estimated), out.Charged.Plus(e.Charged)
	switch e.Kind {
	case ledger.Frames:
		out.Frames += e.Frames
	case ledger.Failed:
		out.FailedCost = out.FailedCost.Plus(e.Charged)
	case ledger.Unused, ledger.Waiting, ledger.Least:
		out.UnusedCost = out.UnusedCost.Plus(e.Charged)
	}
}

// settled is a run's ledger by entry, with what tells whether it still holds.
type settled struct {
	entries  []ledger.Entry
	currency string
	outside  pricing.Money
	state    states.Run // of the run, when it ended
	ended    time.Time
	charges  int // so many
}

// entriesOf reads a run's account. One of a run that has ended, with all its meters
// closed, is kept in memory: nothing in it changes any more, unless the run goes on.
func (a *Accounts) entriesOf(ctx context.Context, run Run, charges int) (settled, error) {
	if kept, ok := a.kept.Get(run.ID); ok && run.EndedAt != nil && run.State == kept.state && run.EndedAt.Equal(kept.ended) && kept.charges == charges {
		return kept, nil
	}
	s, err := a.Of(ctx, run.ID)
	if err != nil {
		return settled{}, err
	}
	out := settled{entries: s.Entries(), currency: s.Currency, outside: s.Outside(), charges: s.Charges()}
	if s.EndedAt != nil && s.Settled() {
		out.state, out.ended = s.State, *s.EndedAt
		a.kept.Add(run.ID, out)
	}
	return out, nil
}

// Charges is how many charges of sources the account has.
func (s Account) Charges() int { return len(s.charges) }

// Settled reports whether the meters of all servers and jobs of the run are closed.
func (s Account) Settled() bool {
	return !slices.ContainsFunc(s.Servers, func(v rental.Server) bool { return !v.State.Final() }) &&
		!slices.ContainsFunc(s.Jobs, func(j farms.Job) bool { return !j.State.Final() })
}
