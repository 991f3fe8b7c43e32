package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

// with runs a command's work with the way to the service.
func (a *app) with(do func(cmd *cobra.Command, c *client.Client, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		return a.reach(do(cmd, c, args))
	}
}

// newKey makes an Idempotency-Key, so that a call that is repeated because its
// answer got lost does nothing twice.
func newKey() string { return uuid.NewString() }

// some returns what an optional parameter is set to: nothing for a zero value.
func some[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

// pages gathers a list that comes in pages.
func pages[T any](next func(cursor string) ([]T, string, error)) ([]T, error) {
	all := []T{}
	for cursor := ""; ; {
		items, more, err := next(cursor)
		if err != nil {
			return nil, err
		}
		all = append(all, items...)
		if more == "" {
			return all, nil
		}
		cursor = more
	}
}

// latest is the word for the newest plan or run.
const latest = "latest"

// pick finds an id by the word latest or by its first letters.
func pick(kind, given string, ids []uuid.UUID) (uuid.UUID, error) {
	if given == latest && len(ids) > 0 {
		return ids[0], nil
	}
	var found []uuid.UUID
	for _, id := range ids {
		if given != latest && strings.HasPrefix(id.String(), strings.ToLower(given)) {
			found = append(found, id)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return uuid.Nil, fmt.Errorf("there is no %s %q; rotanex %ss list shows them", kind, given, kind)
	default:
		return uuid.Nil, fmt.Errorf("%q is the beginning of %d %ss: give more letters", given, len(found), kind)
	}
}

func (a *app) findPlan(ctx context.Context, c *client.Client, given string) (uuid.UUID, error) {
	if id, err := uuid.Parse(given); err == nil {
		return id, nil
	}
	list, err := client.Decode[api.PlanList](c.ListPlans(ctx, &api.ListPlansParams{Limit: new(500)}))
	if err != nil {
		return uuid.Nil, err
	}
	var ids []uuid.UUID
	for _, p := range list.Items {
		ids = append(ids, p.Id)
	}
	return pick("plan", given, ids)
}

func (a *app) findRun(ctx context.Context, c *client.Client, given string) (uuid.UUID, error) {
	if id, err := uuid.Parse(given); err == nil {
		return id, nil
	}
	limit := 500
	if given == latest {
		limit = 1
	}
	list, err := client.Decode[api.RunList](c.ListRuns(ctx, &api.ListRunsParams{Limit: new(limit), Archived: given != latest}))
	if err != nil {
		return uuid.Nil, err
	}
	var ids []uuid.UUID
	for _, r := range list.Items {
		ids = append(ids, r.Id)
	}
	return pick("run", given, ids)
}

// serviceNow asks the service what time it is by its clock.
func serviceNow(ctx context.Context, c *client.Client) (time.Time, error) {
	s, err := client.Decode[api.Session](c.GetSession(ctx))
	return s.Clock.Now, err
}
