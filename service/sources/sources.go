// Package sources keeps where hosts come from that are not one's own: how they are
// reached, by which rate card they bill, and what exchange rates hold.
package sources

import (
	"context"
	"fmt"
	"math/big"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"rotanex.example/core/pricing"
	"rotanex.example/core/stock"
	"rotanex.example/providers"
	"rotanex.example/providers/ssh"
	"rotanex.example/service/clock"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/secrets"
	"rotanex.example/service/store"
)

// Source is the record of one.
type Source struct {
	Name   string       `gorm:"primaryKey"`
	Spec   stock.Source `gorm:"serializer:json"`
	Secret []byte       // sealed
	Swept  *time.Time
	Asked  *time.Time // when it was first asked anything at its address; nil: not yet
	Fault  string     // why it could not be dealt with the last time
}

// Sources looks after them.
type Sources struct {
	store    *store.Store
	clock    clock.Clock
	currency string
	secrets  secrets.Box
	agent    string // the agent's program, for servers reached over SSH
}

// Config is how sources are set.
type Config struct {
	Currency string // of the service
	Key      []byte // of 32 bytes, with which secrets are sealed
	Agent    string // path of the agent's program, for servers reached over SSH
}

// New makes it.
func New(s *store.Store, c clock.Clock, config Config) (*Sources, error) {
	box, err := secrets.New(config.Key)
	return &Sources{s, c, config.Currency, box, config.Agent}, err
}

// Find returns a source, or false where none of that name is known.
func (s *Sources) Find(ctx context.Context, name string) (Source, bool, error) {
	var found []Source
	err := s.store.WithContext(ctx).Where("name = ?", name).Find(&found).Error
	if err != nil || len(found) == 0 {
		return Source{Name: name, Spec: stock.Source{Name: name}}, false, err
	}
	return found[0], true, nil
}

// All returns all sources, by name.
func (s *Sources) All(ctx context.Context) ([]Source, error) {
	var all []Source
	return all, s.store.WithContext(ctx).Order("name").Find(&all).Error
}

// Put stores a source. Its secret stays as it was where none is given.
func (s *Sources) Put(ctx context.Context, spec stock.Source, secret *string) error {
	if err := spec.Validate(); err != nil {
		return httpapi.BadField("/", spec.Name, err.Error())
	}
	old, _, err := s.Find(ctx, spec.Name)
	if err != nil {
		return err
	}
	row := Source{Name: spec.Name, Spec: spec, Asked: old.Asked, Fault: old.Fault}
	if old.Spec.Address != spec.Address || secret != nil {
		row.Asked, row.Fault = nil, ""
	}
	columns := []string{"spec", "asked", "fault"}
	if secret != nil {
		columns = append(columns, "secret")
		if *secret != "" {
			box, err := s.secrets.Seal(spec.Name, *secret)
			if err != nil {
				return err
			}
			row.Secret = box
		}
	}
	return s.store.WithContext(ctx).Clauses(clause.OnConflict{
		Columns: []clause.Column{{Name: "name"}}, DoUpdates: clause.AssignmentColumns(columns),
	}).Select("name", "spec", "secret", "asked", "fault").Create(&row).Error
}

// contactFor is how long a source may take to answer when it is only asked whether it does.
const contactFor = 5 * time.Second

// Contact asks a source something that changes nothing, and notes whether it answered.
func (s *Sources) Contact(ctx context.Context, name string) error {
	row, found, err := s.Find(ctx, name)
	if err != nil || !found || row.Spec.Address == "" {
		return err
	}
	asking, cancel := context.WithTimeout(ctx, contactFor)
	defer cancel()
	return s.Reachable(ctx, name, s.contact(asking, row.Spec))
}

func (s *Sources) contact(ctx context.Context, spec stock.Source) error {
	if spec.Kind == stock.FarmSource {
		farm, err := s.Farm(ctx, spec.Name)
		if err == nil {
			_, err = farm.Missing(ctx, []string{})
		}
		return err
	}
	servers, err := s.Servers(ctx, spec.Name)
	if err == nil {
		_, err = servers.Offers(ctx)
	}
	return err
}

func (s *Sources) remote(ctx context.Context, name, kind string) (Source, providers.Remote, error) {
	row, _, err := s.Find(ctx, name)
	if err != nil {
		return row, providers.Remote{}, err
	}
	if row.Spec.Address == "" || row.Spec.Kind != kind {
		return row, providers.Remote{}, fmt.Errorf("there is no way to %s: store its address with rotanex sources import", name)
	}
	secret, err := s.secrets.Open(name, row.Secret)
	return row, providers.Remote{Address: row.Spec.Address, Secret: secret}, err
}

// Servers returns the way to a rented source.
func (s *Sources) Servers(ctx context.Context, name string) (providers.Servers, error) {
	row, remote, err := s.remote(ctx, name, stock.RentedSource)
	if err != nil {
		return nil, err
	}
	if ssh.Reaches(row.Spec.Address) {
		return ssh.New(row.Spec, remote.Secret, s.agent, s.clock.Now)
	}
	return providers.RemoteServers{Remote: remote}, nil
}

// Farm returns the way to a farm.
func (s *Sources) Farm(ctx context.Context, name string) (providers.Farm, error) {
	_, remote, err := s.remote(ctx, name, stock.FarmSource)
	return providers.RemoteFarm{Remote: remote}, err
}

// spec reads a source's record, or false where none of that name is known. Here and
// below db may be a transaction: whoever holds one and waits for another connection may
// wait for ever.
func spec(db *gorm.DB, name string) (stock.Source, bool, error) {
	var found []Source
	err := db.Where("name = ?", name).Find(&found).Error
	if err != nil || len(found) == 0 {
		return stock.Source{Name: name}, false, err
	}
	return found[0].Spec, true, nil
}

// Rates returns the exchange rates, by day.
func (s *Sources) Rates(ctx context.Context) (pricing.Rates, error) {
	return ratesBy(s.store.WithContext(ctx))
}

func text(m pricing.Money) string {
	out, _ := m.MarshalText()
	return string(out)
}

// Charged returns what a source has charged so far, in the currency of its prices.
func (s *Sources) Charged(ctx context.Context, source string) (pricing.Money, error) {
	return chargedBy(s.store.WithContext(ctx), source)
}

// Factor returns what one unit of a source's prices comes to in the service's
// currency today, discount and tax in it. A source that is not known bills in the
// service's currency.
func (s *Sources) Factor(ctx context.Context, source string) (*big.Rat, error) {
	return s.FactorBy(s.store.WithContext(ctx), source)
}

// FactorBy is Factor within a transaction.
func (s *Sources) FactorBy(db *gorm.DB, source string) (*big.Rat, error) {
	known, found, err := spec(db, source)
	if err != nil || !found {
		return big.NewRat(1, 1), err
	}
	rates, err := ratesBy(db)
	if err != nil {
		return nil, err
	}
	before, err := chargedBy(db, source)
	if err != nil {
		return nil, err
	}
	return known.Card.Factor(s.currency, rates, s.clock.Now(), before)
}

// Charge is what a source's meter said when something of it ended.
type Charge struct {
	Run     *string // none: an orphan's
	Source  string
	Place   string
	Metered float64 // seconds
	Amount  pricing.Money
}

// takeRates takes in exchange rates as CSV: all of them or none.
func (s *Sources) takeRates(ctx context.Context, csv string) error {
	rates, err := pricing.ParseRates(strings.NewReader(csv))
	if err != nil {
		return httpapi.BadField("body", "", fmt.Sprintf("%v; nothing was stored", err))
	}
	return s.PutRates(ctx, rates)
}

// Reseal seals the secrets of sources anew, from one key to another, and says how many there are.
func Reseal(tx *gorm.DB, from, to secrets.Box) (n int, err error) {
	var all []Source
	if err := tx.Where("secret IS NOT NULL").Order("name").Find(&all).Error; err != nil {
		return 0, err
	}
	for _, s := range all {
		sealed, err := from.Another(s.Name, s.Secret, to)
		if err == nil {
			err = tx.Model(&Source{Name: s.Name}).Update("secret", sealed).Error
		}
		if err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}
