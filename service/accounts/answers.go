package accounts

import (
	"encoding/csv"
	"strconv"
	"time"

	"rotanex.example/api"
	"rotanex.example/core/ledger"
	"rotanex.example/core/pricing"
	"rotanex.example/service/farms"
)

// JobRecord is a farm's job of the run as the contract has it.
func (s Account) JobRecord(j farms.Job) api.FarmJob {
	out := api.FarmJob{
		Id: j.ID, Run: j.RunID, Shot: j.Shot, Farm: j.Farm, Source: j.Source, State: api.FarmJobState(j.State), Frames: j.Frames, Accepted: j.Accepted,
		Findings: append([]string{}, j.Findings...), Queue: j.Queue, Trouble: j.Trouble, From: j.FromAt.UTC(), Committed: rounded(j.Committed), Proofs: append([]int{}, s.proofs[j.ID]...),
	}
	for _, w := range s.Work {
		if w.Booking == j.BookingID {
			out.Done, out.Failed, out.RenderedS = out.Done+w.Done, out.Failed+w.Failed, out.RenderedS+w.DoneS+w.FailedS
		}
	}
	for _, at := range []struct {
		from *time.Time
		to   *time.Time
	}{{j.SentAt, &out.Sent}, {j.StartedAt, &out.Started}, {j.EndedAt, &out.Ended}} {
		if at.from != nil {
			*at.to = at.from.UTC()
		}
	}
	if j.SentAt != nil {
		end := s.Now
		if j.EndedAt != nil {
			end = *j.EndedAt
		}
		out.ElapsedS = end.Sub(*j.SentAt).Seconds()
	}
	if c := s.chargeOf(j.ID.String()); c != nil {
		out.Charge = c.Cost.String()
	}
	return out
}

func (b Book) ledgerRecord() api.Ledger {
	estimated, charged := ledger.Total(b.Entries)
	out := api.Ledger{Run: b.Run, Rows: []api.LedgerRow{}, Currency: b.Currency, Cost: charged.String(), PlannedCost: estimated.String(), CostBound: b.CostBound.String()}
	for _, r := range b.Places {
		row := api.LedgerRow{
			Place: r.Place, Source: r.Source, Crew: r.Crew, FramesDone: r.FramesDone, FramesPlanned: r.FramesPlanned, Failed: r.Failed,
			BusyS: r.Busy.Seconds(), PlannedS: r.Planned.Seconds(), PaidS: r.Paid.Seconds(), OpeningS: r.Opening.Seconds(), OpeningPlannedS: r.OpeningPlanned.Seconds(), PlannedCost: r.Estimated.String(), Cost: r.Charged.String(),
		}
		if r.FramesDone > 0 {
			row.FrameCost = r.Charged.EachOf(r.FramesDone)
		}
		out.FramesDone += r.FramesDone
		out.Rows = append(out.Rows, row)
	}
	if out.FramesDone > 0 {
		out.FrameCost = charged.EachOf(out.FramesDone)
	}
	return out
}

func (b Book) sourcesRecord() api.SourceComparison {
	out := api.SourceComparison{Run: b.Run, Currency: b.Currency, Basis: api.SourceComparisonBasisCharged, Rows: []api.SourceRow{}}
	marks := b.Marks
	for i, r := range b.Sources {
		row := api.SourceRow{
			Source: r.Source, Status: api.SourceRowStatusCharged, Usable: r.Usable, Failed: r.Failed, Cost: r.Charged.String(), Estimated: r.Estimated.String(), MeasuredShare: 1,
			RenderedS: r.Rendered.Seconds(), PaidS: r.Paid.Seconds(), UnusedS: r.Unused.Seconds(), ElapsedS: r.Elapsed.Seconds(),
		}
		if r.Usable > 0 {
			row.FrameCost = r.Charged.EachOf(r.Usable)
		}
		if r.Paid > 0 {
			row.UnusedCost = r.UnusedCost.String()
		}
		for _, x := range []struct {
			at   int
			mark api.SourceRowMarks
		}{{marks.Cheapest, api.SourceRowMarksCheapest}, {marks.Fastest, api.SourceRowMarksFastest}, {marks.Balanced, api.SourceRowMarksBalanced}} {
			if x.at == i {
				row.Marks = append(row.Marks, x.mark)
			}
		}
		out.Rows = append(out.Rows, row)
	}
	return out
}

func (out Entries) record() api.EntryList {
	list := api.EntryList{
		Items: []api.Entry{}, Currency: out.Currency, Frames: out.Frames, Estimated: out.Estimated.String(), Charged: out.Charged.String(),
		FailedCost: out.FailedCost.String(), UnusedCost: out.UnusedCost.String(), Next: out.Next,
	}
	if out.Frames > 0 {
		list.FrameCost = out.Charged.EachOf(out.Frames)
	}
	if out.Left != nil {
		list.BudgetLeft = out.Left.String()
	}
	for _, e := range out.All {
		row := api.Entry{
			Run: e.Run, Source: e.Source, Place: e.Place, Crew: e.Crew, Shot: e.Shot, Kind: api.EntryKind(e.Kind), Frames: e.Frames, Seconds: e.Time.Seconds(), OpeningS: e.Opening.Seconds(), OpeningPlannedS: e.OpeningPlanned.Seconds(),
			Estimated: exact(e.Estimated), Charged: exact(e.Charged), Metered: e.Metered, Why: e.Why,
		}
		row.Day.Time = e.Day
		list.Items = append(list.Items, row)
	}
	return list
}

// columns are those of entries as CSV.
var columns = []string{"run", "day", "source", "place", "crew", "shot", "kind", "frames", "seconds", "estimated", "charged", "currency", "metered", "why"}

// csv writes the entries, with plain numbers.
func (out Entries) csv(file *csv.Writer) {
	for _, e := range out.All {
		_ = file.Write([]string{
			e.Run.String(), e.Day.Format(time.DateOnly), e.Source, e.Place, e.Crew, e.Shot, string(e.Kind), strconv.Itoa(e.Frames),
			strconv.FormatFloat(e.Time.Seconds(), 'f', 3, 64), exact(e.Estimated), exact(e.Charged), out.Currency, e.Metered, e.Why,
		})
	}
}

// exact writes an entry's money to a hundredth of a cent: a frame may cost less than
// one. Totals are rounded once, from what is exact.
func exact(m pricing.Money) string { return m.Rat().FloatString(4) }

// rounded writes stored money to a hundredth.
func rounded(text string) string {
	m, err := pricing.ParseMoney(text)
	if err != nil {
		return text
	}
	return m.String()
}
