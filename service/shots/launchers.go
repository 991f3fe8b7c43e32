package shots

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"

	"rotanex.example/core/spelling"
	"rotanex.example/launchers"
	"rotanex.example/service/hosts"
	"rotanex.example/service/httpapi"
)

var shipped = sync.OnceValues(launchers.Shipped)

// launches says what is wrong with a shot's launcher and settings: known are those that ship,
// and those that agents have reported.
func (s *Shots) launches(ctx context.Context, spec Spec) error {
	all, err := shipped()
	if err != nil {
		return err
	}
	l, ships := all[spec.Launcher]
	if ships {
		if _, err := l.Settle(spec.Settings); err == nil {
			return nil
		}
	}
	reported, err := hosts.Launchers(s.store.WithContext(ctx))
	if err != nil {
		return err
	}
	own, known := reported[spec.Launcher]
	if !ships && !known {
		names := slices.Compact(slices.Sorted(slices.Values(slices.Concat(slices.Collect(maps.Keys(all)), slices.Collect(maps.Keys(reported))))))
		return httpapi.BadField("/launcher", spec.Launcher, "is not known; "+meant(spec.Launcher, names)+" (one of your own is known once an agent that may start it has joined)")
	}
	settings, values := slices.Concat(slices.Collect(maps.Keys(l.Settings)), own), map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(spec.Settings)) {
		if !slices.Contains(settings, name) && (ships || len(own) > 0) { // agents of before did not tell
			slices.Sort(settings)
			return httpapi.BadField("/settings", name, "is no setting of "+spec.Launcher+"; "+meant(name, slices.Compact(settings)))
		}
		if _, its := l.Settings[name]; its {
			values[name] = spec.Settings[name]
		}
	}
	if !ships {
		return nil
	}
	if _, err := l.Settle(values); err != nil {
		return httpapi.BadField("/settings", "", err.Error())
	}
	return nil
}

// meant says what somebody meant who wrote a word that is not known.
func meant(word string, known []string) string {
	if near := spelling.Nearest(word, known); near != "" {
		return "did you mean " + near + "?"
	}
	return "known are " + strings.Join(known, ", ")
}
