package accounts

import (
	"context"
	"slices"

	"github.com/google/uuid"

	"rotanex.example/core/ledger"
	"rotanex.example/core/pricing"
	"rotanex.example/service/farms"
	"rotanex.example/service/rental"
	"rotanex.example/service/settled"
)

// Book is what the account of a run says of money. That of a run that is over, with all its meters closed, is written down: nothing in it
// changes any more, unless the run goes on, or is charged once more.
type Book struct {
	Run                uuid.UUID
	Currency           string
	Entries            []ledger.Entry
	Outside, CostBound pricing.Money
	Places             []PlaceRow
	Sources            []SourceRow
	Marks              ledger.Marks // of the sources
}

// bookWay is another number for each way in which books are made.
const bookWay = 1

// bookOf is the book of one run.
func (a *Accounts) bookOf(ctx context.Context, id uuid.UUID) (Book, error) {
	run, err := a.find(ctx, id)
	if err != nil {
		return Book{}, err
	}
	return settled.One(ctx, a.kept, run, a.book)
}

// book makes the book of a run, and says whether it is closed.
func (a *Accounts) book(ctx context.Context, run Run) (Book, bool, error) {
	s, err := a.Of(ctx, run.ID)
	if err != nil {
		return Book{}, false, err
	}
	out := Book{Run: s.ID, Entries: s.Entries(), Currency: s.Currency, Outside: s.Outside(), CostBound: s.Plan.CostBound, Places: s.ByPlace()}
	out.Sources, out.Marks = s.BySource()
	return out, s.Settled(), nil
}

// Settle writes down the book of a run that is over, with its meters closed.
func (a *Accounts) Settle(ctx context.Context, run uuid.UUID) error {
	_, err := a.bookOf(ctx, run)
	return err
}

// Fresh has books show what was changed until now.
func (a *Accounts) Fresh() { a.kept.Fresh() }

// Settled reports whether the meters of all servers and jobs of the run are closed.
func (s Account) Settled() bool {
	return !slices.ContainsFunc(s.Servers, func(v rental.Server) bool { return !v.State.Final() }) &&
		!slices.ContainsFunc(s.Jobs, func(j farms.Job) bool { return !j.State.Final() })
}
