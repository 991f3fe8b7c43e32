package sources

import (
	"context"
	"maps"
	"math/big"
	"slices"
	"time"

	"rotanex.example/core/leadtimes"
	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
)

// Wait is what an offer or a tier declares against what it did.
type Wait struct {
	leadtimes.Kept
	Place, Source  string
	Declared       time.Duration // until it is up, or until a job's first frame
	Ordered, Never int
}

// Takes is how long the next wait will be, most likely.
func (w Wait) Takes() time.Duration {
	return time.Duration(w.Typical * float64(w.Declared)).Round(time.Second)
}

// latestWaits is over how many waits of a place it is learnt how long they take.
const latestWaits = 20

// Waits tells of each offer and tier how long it takes to begin. One of which nothing
// was seen goes by the others of its source.
func (s *Sources) Waits(ctx context.Context) (map[string]Wait, error) {
	all, err := readWaits(s.store.WithContext(ctx))
	out := map[string]Wait{}
	for _, x := range all {
		assumed, ratios := leadtimes.Boot, x.ratios
		if x.farm {
			assumed = leadtimes.Queue
		}
		if len(ratios) == 0 {
			for _, y := range all {
				if y.Source == x.Source {
					ratios = append(slices.Clip(ratios), y.ratios...)
				}
			}
		}
		x.Kept = leadtimes.Learn(ratios, assumed).Coming(x.Ordered, x.Never)
		out[x.Place] = x.Wait
	}
	return out, err
}

// Account is a source with its money and what was learnt of it.
type Account struct {
	Source
	Charged, Committed pricing.Money
	Factor             *big.Rat // from its currency to the service's, with tax; nil: see FactorFault
	FactorFault        string
	Tries, Done        int
	Waits              []Wait // of its offers and tiers, by name
	Images             []string
}

func (s *Sources) account(ctx context.Context, row Source, waits map[string]Wait) (out Account, err error) {
	out.Source = row
	if out.Charged, out.Committed, err = s.money(ctx, row.Name); err != nil {
		return out, err
	}
	if factor, err := s.Factor(ctx, row.Name); err != nil {
		out.FactorFault = err.Error()
	} else {
		out.Factor = factor
	}
	if out.Done, out.Tries, err = s.usable(ctx, row.Name); err != nil {
		return out, err
	}
	for _, place := range slices.Sorted(maps.Keys(waits)) {
		if waits[place].Source == row.Name {
			out.Waits = append(out.Waits, waits[place])
		}
	}
	out.Images, err = s.images(ctx, row.Name)
	return out, err
}

// Accounts returns all sources with their money and what was learnt of them.
func (s *Sources) Accounts(ctx context.Context) (out []Account, err error) {
	all, err := s.All(ctx)
	if err != nil {
		return nil, err
	}
	waits, err := s.Waits(ctx)
	if err != nil {
		return nil, err
	}
	for _, row := range all {
		one, err := s.account(ctx, row, waits)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

// PutAsked stores a source and asks whether anybody answers there, so that who stored it
// is told.
func (s *Sources) PutAsked(ctx context.Context, spec stock.Source, secret *string) (Account, error) {
	if err := s.Put(ctx, spec, secret); err != nil {
		return Account{}, err
	}
	if err := s.Contact(ctx, spec.Name); err != nil {
		return Account{}, err
	}
	row, _, err := s.Find(ctx, spec.Name)
	if err != nil {
		return Account{}, err
	}
	waits, err := s.Waits(ctx)
	if err != nil {
		return Account{}, err
	}
	return s.account(ctx, row, waits)
}
