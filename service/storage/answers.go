package storage

import "rotanex.example/api"

func record(k Kept) api.Kept {
	out := api.Kept{Name: k.Name, What: k.What, Days: k.Days, UsualDays: k.Usual, LeastDays: k.Least, Pruned: k.Pruned}
	if k.Rows >= 0 {
		out.Rows, out.Bytes = &k.Rows, &k.Bytes
	}
	if k.At != nil {
		out.PrunedAt = k.At.UTC()
	}
	return out
}
