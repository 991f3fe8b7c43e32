package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

// completes is how long a shell waits for names at most.
const completes = 3 * time.Second

// names lists what an argument may be, each as "NAME\twhat it is", as the service has it.
type names func(ctx context.Context, c *client.Client) ([]cobra.Completion, error)

// complete has the arguments of a command, and of all below it, completed by what the words of its
// usage line stand for: SHOT, RUN, HOST and so on, and auto|ask|off as it is.
func (a *app) complete(c *cobra.Command) {
	words := strings.Fields(c.Use)[1:]
	if at := slices.IndexFunc(words, func(w string) bool { return strings.HasPrefix(strings.Trim(w, "["), "-") }); at >= 0 {
		words = words[:at] // flags complete themselves
	}
	if !c.HasSubCommands() {
		c.ValidArgsFunction = func(cmd *cobra.Command, args []string, typed string) ([]cobra.Completion, cobra.ShellCompDirective) {
			return a.namesAt(cmd, words, args, typed)
		}
	}
	for _, flag := range []struct{ name, stands string }{{"shot", "SHOT"}, {"host", "HOST"}} {
		if c.Flags().Lookup(flag.name) != nil {
			_ = c.RegisterFlagCompletionFunc(flag.name, func(cmd *cobra.Command, _ []string, typed string) ([]cobra.Completion, cobra.ShellCompDirective) {
				return a.namesAt(cmd, []string{flag.stands}, nil, typed)
			})
		}
	}
	for _, sub := range c.Commands() {
		a.complete(sub)
	}
}

// namesAt lists what the next argument may be, after those that are there, that begins as it is typed.
func (a *app) namesAt(cmd *cobra.Command, words, args []string, typed string) ([]cobra.Completion, cobra.ShellCompDirective) {
	word, last := "", ""
	if len(words) > 0 {
		last = words[len(words)-1]
	}
	if len(args) < len(words) {
		word = words[len(args)]
	} else if strings.HasSuffix(last, "…") || strings.HasSuffix(last, "…]") {
		word = last
	}
	switch word = strings.Trim(word, "[]…"); {
	case strings.HasPrefix(word, "FILE"), strings.HasPrefix(word, "PROBLEM"), strings.HasPrefix(word, "TIMES"), word == "FOLDER", word == "PATH":
		return nil, cobra.ShellCompDirectiveDefault
	case strings.Contains(word, "|"):
		return slices.DeleteFunc(strings.Split(word, "|"), func(x string) bool { return !strings.HasPrefix(x, typed) }), cobra.ShellCompDirectiveNoFileComp
	}
	list, known := a.named()[word]
	if !known || a.configure() != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	ctx, stop := context.WithTimeout(cmd.Context(), completes)
	defer stop()
	c, err := a.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	found, err := list(ctx, c)
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	return slices.DeleteFunc(found, func(x cobra.Completion) bool {
		name, _, _ := strings.Cut(x, "\t")
		return slices.Contains(args, name) || !strings.HasPrefix(name, typed)
	}), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
}

// mostNames are offered, the newest or first.
const mostNames = 500

// named says what the words of usage lines stand for.
func (a *app) named() map[string]names {
	return map[string]names{
		"SHOT": shotNames, "HOST": hostNames, "SOURCE": sourceNames, "RUN": runNames,
		"PLAN": planNames, "BEFORE": planNames, "AFTER": planNames,
	}
}

// each makes completions of a list.
func each[L, T any](answer func() (L, error), items func(L) []T, of func(T) (name, is string)) ([]cobra.Completion, error) {
	list, err := answer()
	var out []cobra.Completion
	for _, x := range items(list) {
		out = append(out, cobra.CompletionWithDesc(of(x)))
	}
	return out, err
}

func shotNames(ctx context.Context, c *client.Client) ([]cobra.Completion, error) {
	return each(func() (api.ShotList, error) {
		return client.Decode[api.ShotList](c.ListShots(ctx, &api.ListShotsParams{Limit: new(mostNames)}))
	}, func(l api.ShotList) []api.Shot { return l.Items },
		func(s api.Shot) (string, string) { return s.Spec.Name, several(s.FrameCount, "frame") })
}

func hostNames(ctx context.Context, c *client.Client) ([]cobra.Completion, error) {
	return each(func() (api.HostList, error) {
		return client.Decode[api.HostList](c.ListHosts(ctx, &api.ListHostsParams{Limit: new(mostNames)}))
	}, func(l api.HostList) []api.Host { return l.Items },
		func(h api.Host) (string, string) { return h.Spec.Name, h.Spec.Source })
}

type sourceList struct{ Items []api.Source }

func sourceNames(ctx context.Context, c *client.Client) ([]cobra.Completion, error) {
	return each(func() (sourceList, error) { return client.Decode[sourceList](c.ListSources(ctx)) },
		func(l sourceList) []api.Source { return l.Items },
		func(s api.Source) (string, string) { return s.Spec.Name, string(s.Spec.Kind) })
}

func runNames(ctx context.Context, c *client.Client) ([]cobra.Completion, error) {
	out, err := each(func() (api.RunList, error) {
		return client.Decode[api.RunList](c.ListRuns(ctx, &api.ListRunsParams{Limit: new(mostNames)}))
	}, func(l api.RunList) []api.Run { return l.Items },
		func(r api.Run) (string, string) {
			var shots []string
			for _, s := range r.Shots {
				shots = append(shots, s.Shot)
			}
			return r.Id.String()[:8], string(r.State) + ": " + few(shots)
		})
	return append([]cobra.Completion{cobra.CompletionWithDesc(latest, "the newest")}, out...), err
}

func planNames(ctx context.Context, c *client.Client) ([]cobra.Completion, error) {
	out, err := each(func() (api.PlanList, error) {
		return client.Decode[api.PlanList](c.ListPlans(ctx, &api.ListPlansParams{Limit: new(mostNames)}))
	}, func(l api.PlanList) []api.Plan { return l.Items },
		func(p api.Plan) (string, string) {
			return p.Id.String()[:8], string(p.Status) + ", " + money(p.Currency, p.Cost) + ": " + few(p.Shots)
		})
	return append([]cobra.Completion{cobra.CompletionWithDesc(latest, "the newest")}, out...), err
}

// few names the first of some shots.
func few(shots []string) string {
	if len(shots) > 3 {
		return strings.Join(shots[:2], ", ") + " and " + several(len(shots)-2, "more shot")
	}
	return strings.Join(shots, ", ")
}
