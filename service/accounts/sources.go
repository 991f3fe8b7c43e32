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
	"rotanex.example/service/settled"
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
	Next                                       string         // the cursor of the next page of runs
}

// Entries lists the entries of one run, or of a page of all, the newest first.
func (a *Accounts) Entries(ctx context.Context, want Wanted, cursor *string, limit *int) (out Entries, err error) {
	var runs []Run
	if want.Run != nil {
		runs = make([]Run, 1)
		runs[0], err = a.find(ctx, *want.Run)
	} else {
		runs, out.Next, err = a.page(ctx, cursor, limit)
	}
	if err != nil {
		return out, err
	}
	books, err := settled.All(ctx, a.kept, runs, a.book)
	if err != nil {
		return out, err
	}
	for i, run := range runs {
		out.Currency = books[i].Currency
		for _, e := range books[i].Entries {
			if want.has(e) {
				out.add(run.ID, e)
			}
		}
		if want.Run != nil && run.Cap != nil {
			if limit, err := pricing.ParseMoney(*run.Cap); err == nil {
				left := limit.Minus(books[i].Outside)
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
