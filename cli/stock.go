package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/preflight"
	"rotanex.example/core/stock"
)

// stockFile is the form of a file of hosts and offers.
type stockFile struct {
	Hosts  []stock.Host  `yaml:"hosts" json:"hosts"`
	Offers []stock.Offer `yaml:"offers" json:"offers"`
	// Sources are where hosts come from that are not one's own, Farms tiers of those
	// that take frames.
	Sources []stock.Source `yaml:"sources" json:"sources"`
	Farms   []stock.Farm   `yaml:"farms" json:"farms"`
	// Licences are pools of seats.
	Licences []preflight.Licence `yaml:"licences" json:"licences"`
}

// named says which name stands twice, in a file or in one before it.
func (f stockFile) named(before *stockFile) error {
	seen := map[string]bool{}
	twice := func(what, name string) error {
		if key := what + " " + name; !seen[key] {
			seen[key] = true
			return nil
		}
		return fmt.Errorf("%s %s stands there twice: give each its own name", what, name)
	}
	var faults []error
	for _, part := range []stockFile{*before, f} {
		for _, h := range part.Hosts {
			faults = append(faults, twice("host", h.Name))
		}
		for _, o := range part.Offers {
			faults = append(faults, twice("offer", o.Name))
		}
		for _, s := range part.Sources {
			faults = append(faults, twice("source", s.Name))
		}
		for _, t := range part.Farms {
			faults = append(faults, twice("farm", t.Name))
		}
		for _, l := range part.Licences {
			faults = append(faults, twice("licence pool", l.Pool))
		}
	}
	return errors.Join(faults...)
}

func group(use, short string, subs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	c.AddCommand(subs...)
	return c
}

func (a *app) hosts() *cobra.Command {
	imports := &cobra.Command{
		Use: "import FILE…", Short: "Store the hosts and offers of YAML files", Args: cobra.MinimumNArgs(1),
		Example: "  rotanex hosts import stock.yaml",
		RunE:    a.with(a.importStock),
	}
	freeFlag(imports)
	return group("hosts", "Take stock: the machines at hand", imports, a.hostsList(), a.hostsShow(), a.hostsDrain(), a.hostWhy(), a.hostsDelete())
}

func (a *app) hostsList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the hosts", Args: cobra.NoArgs, Example: "  rotanex hosts list --output csv",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := allHosts(cmd, c)
			if err != nil {
				return err
			}
			l := listing{
				columns: []string{"host", "source", "agent", "desk", "CPU cores", "memory|memory_gb", "devices", "power", "open"}, records: all,
				empty: "No host yet. Store some: rotanex hosts import FILE, or start an agent: rotanex tokens join HOST",
			}
			for _, h := range all {
				l.add(h.Spec.Name, h.Spec.Source, agentText(h), string(h.Desk.State), strconv.Itoa(h.Spec.Cpu.Cores), inGB(float64(h.Spec.MemoryGb)), devicesText(h.Spec.Devices), powerText(h), openText(h.Spec.Open))
			}
			return a.show(cmd, l)
		}),
	}
}

func (a *app) hostsShow() *cobra.Command {
	return &cobra.Command{
		Use: "show HOST", Short: "Show a host's devices and the crews that it can form", Args: cobra.ExactArgs(1), Example: "  rotanex hosts show bellows",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			h, err := client.Decode[api.Host](c.GetHost(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				aboutHost(cmd, h)
			}
			l := listing{columns: []string{"crew", "models", "device memory|device_memory_gb", "backends", "linked", "busy hour"}, records: h, empty: "It can form no crew."}
			for _, crew := range h.Crews {
				linked := ""
				if crew.Linked {
					linked = "memory link"
				}
				l.add(crew.Id, strings.Join(crew.Models, " + "), inGB(float64(crew.MemoryGb)), strings.Join(crew.Backends, ", "), linked, crew.BusyPriceHour)
			}
			return a.show(cmd, l)
		}),
	}
}

// aboutHost says what a host is, above the crews that it can form.
func aboutHost(cmd *cobra.Command, h api.Host) {
	fmt.Fprintf(cmd.OutOrStdout(), "%s, %s: %s, %d cores, %g GB, agent %s%s\n", h.Spec.Name, h.Spec.Source, h.Spec.Cpu.Model, h.Spec.Cpu.Cores, h.Spec.MemoryGb, agentText(h), versionText(h.AgentVersion))
	if d := h.Desk; d.State != "" {
		fmt.Fprintf(cmd.OutOrStdout(), " · a desk, %s\n · taken back %s in its hours in 60 days; plans expect it to be lent for %.0f %% of them, and its owner's for %s at a time\n",
			deskText(d), several(d.TakenBack, "time"), 100*d.LentShare, seconds(d.TypicallyS))
	}
	for _, f := range h.Findings {
		fmt.Fprintln(cmd.OutOrStdout(), " ·", f)
	}
	for _, d := range h.Spec.Devices {
		if d.Unusable != "" {
			fmt.Fprintf(cmd.OutOrStdout(), " · %s %s is there but cannot be used: %s\n", d.Id, d.Model, d.Unusable)
		}
	}
}

func versionText(v string) string {
	if v == "" {
		return ""
	}
	return ", version " + v
}

func (a *app) hostsDrain() *cobra.Command {
	undo := false
	drain := &cobra.Command{
		Use: "drain HOST", Short: "Let a host finish what it renders and take nothing new", Args: cobra.ExactArgs(1),
		Example: "  rotanex hosts drain desk-ada\n  rotanex hosts drain desk-ada --undo",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			h, err := client.Decode[api.Host](c.DrainHost(cmd.Context(), args[0], api.DrainHostJSONRequestBody{Drain: !undo}))
			if err != nil {
				return err
			}
			if h.Draining {
				return a.did(cmd, h, "%s finishes what it renders and takes nothing new.", args[0])
			}
			return a.did(cmd, h, "%s takes work again.", args[0])
		}),
	}
	drain.Flags().BoolVar(&undo, "undo", false, "take work again")
	return drain
}

func allHosts(cmd *cobra.Command, c *client.Client) ([]api.Host, error) {
	return pages(func(cursor string) ([]api.Host, string, error) {
		page, err := client.Decode[api.HostList](c.ListHosts(cmd.Context(), &api.ListHostsParams{Cursor: some(cursor), Limit: new(500)}))
		return page.Items, page.Next, err
	})
}

// importStock checks every host and offer of every file before it stores one.
func (a *app) importStock(cmd *cobra.Command, c *client.Client, args []string) error {
	all, err := readStock(args)
	if err != nil {
		return err
	}
	meant, _ := cmd.Flags().GetBool("yes")
	if nothing := all.costNothing(); len(nothing) > 0 && !meant {
		if err := a.sure(cmd, fmt.Sprintf("%s: that costs nothing, so it would be let without end. Is that so?", strings.Join(nothing, ", ")), "store it", "nothing was stored: say what it costs (price_h, work)"); err != nil {
			return err
		}
	}
	if err := all.storeMachines(cmd.Context(), c); err != nil {
		return err
	}
	silent, err := all.storeSources(cmd.Context(), c)
	if err != nil {
		return err
	}
	for _, line := range silent {
		fmt.Fprintln(cmd.ErrOrStderr(), line)
	}
	var stored []string
	for _, x := range []struct {
		n    int
		what string
	}{{len(all.Hosts), "host"}, {len(all.Offers), "offer"}, {len(all.Licences), "licence pool"}, {len(all.Sources), "source"}, {len(all.Farms), "farm"}} {
		if x.n > 0 {
			stored = append(stored, several(x.n, x.what))
		}
	}
	return a.did(cmd, all, "Stored %s.", cmp.Or(strings.Join(stored, ", "), "nothing: the files name none"))
}

// freeFlag is for commands that import stock.
func freeFlag(c *cobra.Command) {
	c.Flags().BoolP("yes", "y", false, "take a price of 0 as it is, without asking")
}

// costNothing names the offers and tiers whose price is nothing, which is more often forgotten than meant.
func (f stockFile) costNothing() (out []string) {
	for _, o := range f.Offers {
		if o.PriceH.IsZero() && o.Fee.IsZero() {
			out = append(out, "offer "+o.Name)
		}
	}
	for _, t := range f.Farms {
		if w := t.Work; w.NodeHour.IsZero() && w.CoreGHzHour.IsZero() && w.Frame.IsZero() && w.MinimumCharge.IsZero() {
			out = append(out, "farm "+t.Name)
		}
	}
	return out
}

// readStock reads and checks all files, and stores nothing.
func readStock(paths []string) (all stockFile, err error) {
	for _, path := range paths {
		var f stockFile
		if err := readYAML(path, &f); err != nil {
			return all, err
		}
		if err := errors.Join(f.named(&all), f.check()); err != nil {
			return all, fmt.Errorf("%s: %w; nothing was stored", path, err)
		}
		all.Hosts, all.Offers = append(all.Hosts, f.Hosts...), append(all.Offers, f.Offers...)
		all.Sources, all.Farms = append(all.Sources, f.Sources...), append(all.Farms, f.Farms...)
		all.Licences = append(all.Licences, f.Licences...)
	}
	return all, nil
}

// check returns the first that is wrong with what the file holds.
func (f stockFile) check() error {
	for _, h := range f.Hosts {
		if err := h.Validate(); err != nil {
			return err
		}
	}
	for _, o := range f.Offers {
		if err := o.Validate(); err != nil {
			return err
		}
	}
	for _, s := range f.Sources {
		if err := s.Validate(); err != nil {
			return err
		}
	}
	for _, t := range f.Farms {
		if err := t.Validate(); err != nil {
			return err
		}
	}
	return nil
}

// storeMachines stores hosts, offers and licence pools.
func (f stockFile) storeMachines(ctx context.Context, c *client.Client) error {
	for _, h := range f.Hosts {
		spec, err := convert[api.HostSpec](h)
		if err == nil {
			_, err = client.Decode[api.Host](c.PutHost(ctx, h.Name, spec))
		}
		if err != nil {
			return fmt.Errorf("host %s: %w", h.Name, err)
		}
	}
	for _, o := range f.Offers {
		spec, err := convert[api.OfferSpec](o)
		if err == nil {
			_, err = client.Decode[api.Offer](c.PutOffer(ctx, o.Name, spec))
		}
		if err != nil {
			return fmt.Errorf("offer %s: %w", o.Name, err)
		}
	}
	for _, l := range f.Licences {
		spec, err := convert[api.Licence](l)
		if err == nil {
			_, err = client.Decode[api.Licence](c.PutLicence(ctx, l.Pool, spec))
		}
		if err != nil {
			return fmt.Errorf("licence pool %s: %w", l.Pool, err)
		}
	}
	return nil
}

// storeSources stores sources and farms, and says which sources do not answer.
func (f stockFile) storeSources(ctx context.Context, c *client.Client) (silent []string, err error) {
	for _, s := range f.Sources {
		spec, err := convert[api.SourceSpec](s)
		var stored api.Source
		if err == nil {
			stored, err = client.Decode[api.Source](c.PutSource(ctx, s.Name, api.NewSource{Spec: spec}))
		}
		if err != nil {
			return silent, fmt.Errorf("source %s: %w", s.Name, err)
		}
		if stored.Fault != "" {
			silent = append(silent, silence(stored))
		}
	}
	for _, t := range f.Farms {
		spec, err := convert[api.Farm](t)
		if err == nil {
			_, err = client.Decode[api.Farm](c.PutFarm(ctx, t.Name, spec))
		}
		if err != nil {
			return silent, fmt.Errorf("farm %s: %w", t.Name, err)
		}
	}
	return silent, nil
}

// silence says why a source that was stored cannot be dealt with, and what to do.
func silence(s api.Source) string {
	if !s.HasSecret {
		return fmt.Sprintf("%s has no secret yet: rotanex sources secret %s --file FILE. Asked without one: %s", s.Spec.Name, s.Spec.Name, s.Fault)
	}
	return fmt.Sprintf("%s could not be dealt with: %s", s.Spec.Name, s.Fault)
}

func agentText(h api.Host) string {
	if h.Draining {
		return "draining"
	}
	if h.Trouble != "" {
		return "set aside: " + h.Trouble
	}
	return string(h.Agent)
}

// deskText says how a desk stands, and since when.
func deskText(d api.Desk) string {
	until := ""
	if !d.Until.IsZero() {
		until = " until " + dayTime(d.Until)
	}
	return fmt.Sprintf("%s since %s%s: %s", strings.ReplaceAll(string(d.State), "-", " "), dayTime(d.Since), until, d.Why)
}

// devicesText counts devices of a model: 4 × Halyard 12.
func devicesText(devices []api.Device) string {
	var order []string
	count := map[string]int{}
	for _, d := range devices {
		name := d.Model
		if d.Unusable != "" {
			name += " (unusable)"
		}
		if count[name] == 0 {
			order = append(order, name)
		}
		count[name]++
	}
	for i, name := range order {
		if n := count[name]; n > 1 {
			order[i] = fmt.Sprintf("%d × %s", n, name)
		}
	}
	return orNone(strings.Join(order, ", "))
}

func powerText(h api.Host) string {
	if h.Spec.OnAcPower != nil && !*h.Spec.OnAcPower {
		return "battery"
	}
	return "AC"
}

func openText(hours []api.Hours) string {
	if len(hours) == 0 {
		return "always"
	}
	parts := make([]string, len(hours))
	for i, h := range hours {
		parts[i] = strings.TrimSpace(h.Days + " " + h.From)
		if h.To != "" {
			parts[i] += "–" + h.To
		}
	}
	return strings.Join(parts, ", ")
}

func (a *app) offers() *cobra.Command {
	return group("offers", "Servers that can be rented", &cobra.Command{
		Use: "list", Short: "List the offers", Args: cobra.NoArgs, Example: "  rotanex offers list",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := pages(func(cursor string) ([]api.Offer, string, error) {
				page, err := client.Decode[api.OfferList](c.ListOffers(cmd.Context(), &api.ListOffersParams{Cursor: some(cursor), Limit: new(500)}))
				return page.Items, page.Next, err
			})
			l := listing{
				columns: []string{"offer", "source", "devices", "price an hour|price_an_hour,price_an_hour_currency", "fee|fee,fee_currency", "billed by|billed_by_s", "at least|at_least_s", "lead|lead_s", "servers"}, records: all,
				empty: "No offer yet. Offers stand in the same files as hosts: rotanex hosts import FILE",
			}
			for _, o := range all {
				s := o.Spec
				l.add(s.Name, s.Source, devicesText(s.Devices), amount(o.Currency, s.PriceH), amount(o.Currency, s.Fee), inSeconds(float64(s.IncrementS)), inSeconds(float64(s.MinimumS)), inSeconds(float64(s.BootS)), strconv.Itoa(s.MaxServers))
			}
			if err != nil {
				return err
			}
			return a.show(cmd, l)
		}),
	})
}
