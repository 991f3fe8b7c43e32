package problems

import (
	"context"
	"fmt"
	"maps"
	"math/big"
	"slices"
	"strings"
	"time"

	"rotanex.example/core/planning"
	"rotanex.example/service/accounts"
)

// priced returns what one unit of a source's prices comes to in the service's currency. A
// source of which that cannot be told is left out with the reason, as place.
func (b *builder) priced(ctx context.Context, source, place string) (*big.Rat, bool) {
	factor, err := b.Sources.Factor(ctx, source)
	if err == nil {
		return factor, true
	}
	for _, shot := range b.shots {
		b.leaveOut(shot.Name, place, "", err.Error(), "rotanex exchange-rates import FILE.csv")
	}
	return nil, false
}

func (b *builder) addOffers(ctx context.Context) error {
	all, err := b.Hosts.Offers(ctx)
	if err != nil {
		return err
	}
	waits, err := b.Sources.Waits(ctx)
	if err != nil {
		return err
	}
	for _, o := range all {
		factor, ok := b.priced(ctx, o.Source, o.Name)
		if !ok {
			continue
		}
		memory := planning.Memory(o.Spec.MemoryGB * 1e6)
		step := planning.MillisOf(time.Duration(o.Spec.IncrementS) * time.Second)
		offer := planning.Offer{
			ID: o.Name, Source: o.Source, MaxServers: o.Spec.MaxServers, RAM: &memory,
			Lead: planning.MillisOf(waits[o.Name].Takes()), Wrap: planning.Millis(o.Spec.ShutdownS) * 1000,
			Price: o.Spec.PriceH.Scaled(factor), Fee: o.Spec.Fee.Scaled(factor), Increment: &step, Minimum: planning.Millis(o.Spec.MinimumS) * 1000,
		}
		used := map[string]bool{}
		for _, shot := range b.shots {
			for _, c := range o.Spec.Crews() {
				if frame, ok := b.estimate(shot, o.Name, c, b.turnaround.On(o.Name)); ok {
					used[c.ID] = true
					b.problem.Timings = append(b.problem.Timings, planning.Timing{Shot: shot.Name, Offer: o.Name, Crew: c.ID, Frame: frame})
				}
			}
		}
		for _, c := range o.Spec.Crews() {
			if used[c.ID] {
				offer.Crews = append(offer.Crews, planning.Crew{ID: c.ID, Devices: c.Devices})
			}
		}
		if len(offer.Crews) > 0 {
			b.problem.Offers = append(b.problem.Offers, offer)
		}
	}
	return nil
}

// addFarms adds the tiers of farms.
func (b *builder) addFarms(ctx context.Context) error {
	all, err := b.Hosts.Farms(ctx)
	if err != nil {
		return err
	}
	waits, err := b.Sources.Waits(ctx)
	if err != nil {
		return err
	}
	for _, f := range all {
		factor, ok := b.priced(ctx, f.Source, f.Name)
		if !ok {
			continue
		}
		used := false
		for _, shot := range b.shots {
			crew := f.Spec.Crew()
			if len(shot.Spec.After) > 0 {
				b.leaveOut(shot.Name, f.Name, crew.ID, "a farm renders from a package: it cannot be handed the frames of other passes", "")
				continue
			}
			if len(shot.Spec.Files) > 0 {
				b.leaveOut(shot.Name, f.Name, crew.ID, "a farm sends home pictures alone, and each frame is to have "+strings.Join(shot.Spec.Files, ", ")+" too", "")
				continue
			}
			if frame, ok := b.estimate(shot, f.Name, crew, 0); ok {
				used = true
				b.notes.FarmCrews[shot.Name+" "+f.Name] = crew.ID
				b.notes.Basis[accounts.BasisKey(shot.Name, f.Name, "")] = b.notes.Basis[accounts.BasisKey(shot.Name, f.Name, crew.ID)]
				b.problem.Timings = append(b.problem.Timings, planning.Timing{Shot: shot.Name, Farm: f.Name, Frame: frame})
			}
		}
		if used {
			b.problem.Farms = append(b.problem.Farms, planning.Farm{
				ID: f.Name, Source: f.Source, Nodes: f.Spec.Nodes, Lead: planning.MillisOf(waits[f.Name].Takes()), NodePrice: f.Spec.HourPrice().Scaled(factor),
				FramePrice: f.Spec.Work.Frame.Scaled(factor), MinimumCharge: f.Spec.Work.MinimumCharge.Scaled(factor),
			})
		}
	}
	return nil
}

// addTransfers adds what sending each shot's package to each source takes.
func (b *builder) addTransfers(ctx context.Context) error {
	sources := map[string]bool{}
	for _, o := range b.problem.Offers {
		sources[o.Source] = true
	}
	for _, f := range b.problem.Farms {
		sources[f.Source] = true
	}
	for _, shot := range b.problem.Shots {
		for _, source := range slices.Sorted(maps.Keys(sources)) {
			takes, err := b.Packages.Takes(ctx, source, shot.ID)
			if err != nil {
				return fmt.Errorf("sending %s to %s: %w", shot.ID, source, err)
			}
			if takes > 0 {
				b.problem.Transfers = append(b.problem.Transfers, planning.Transfer{Shot: shot.ID, Source: source, Upload: planning.MillisOf(takes)})
			}
		}
	}
	return nil
}
