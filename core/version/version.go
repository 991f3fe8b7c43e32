// Package version says which version of the programs this is, and which work with each other.
package version

import (
	"fmt"
	"runtime/debug"
	"strconv"
	"strings"
)

// Ours is that of all programs here: MAJOR.MINOR.PATCH. Agents and services that are one minor version apart work with each
// other; what a newer agent says beside that is not listened to.
const Ours = "0.1.0"

// Apart says why an agent of a version cannot work with a service of another, and what to do; nil if it can. An agent that does
// not say its version is one of before versions were said.
func Apart(agent, service string) error {
	a, b := minorOf(agent), minorOf(service)
	switch {
	case agent == "" || a < 0 || b < 0:
		return nil // nothing can be told of it
	case a < b-1:
		return fmt.Errorf("the agent has version %s and the service %s, which may be one minor version apart: install the agent of the service's version", agent, service)
	case a > b+1:
		return fmt.Errorf("the agent has version %s and the service %s, which may be one minor version apart: bring the service up to date, or install an agent of its version", agent, service)
	}
	return nil
}

// minorOf numbers a version by its major and minor parts; -1 where it has another form.
func minorOf(version string) int {
	parts := strings.Split(version, ".")
	if len(parts) != 3 {
		return -1
	}
	major, err := strconv.ParseUint(parts[0], 10, 16)
	minor, again := strconv.ParseUint(parts[1], 10, 16)
	if err != nil || again != nil {
		return -1
	}
	return int(major)*1000 + int(minor) // a major version apart is more than one
}

// Built says which version this program is, and of which commit it was built, where that is known.
func Built() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return Ours
	}
	said := map[string]string{}
	for _, s := range info.Settings {
		said[s.Key] = s.Value
	}
	of := []string{info.GoVersion + " " + said["GOOS"] + "/" + said["GOARCH"]}
	if commit := said["vcs.revision"]; commit != "" {
		of = append([]string{"commit " + commit[:min(12, len(commit))] + map[string]string{"true": " with changes"}[said["vcs.modified"]]}, of...)
	}
	return Ours + " (" + strings.Join(of, ", ") + ")"
}
