package launchers

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Reading is what a renderer has said so far.
type Reading struct {
	Progress        float64            // 0 to 1
	Stages          map[string]float64 // seconds of each part of the frame, by the renderer's own word
	DevicePeakBytes int64
	Devices         map[string]DeviceState // by id, as last said
	Cause           string                 // of a failure, where a pattern named it
	tail            []string
}

// DeviceState is what a renderer says a device does; what it does not say is 0.
type DeviceState struct {
	Use                 float64 // 0 to 1
	Bytes               int64
	Celsius, Watts, MHz float64
}

// tailLines is how many of the last lines are kept for a person to read.
const tailLines = 40

// Read takes in one line of output. Lines that are redrawn with carriage returns
// count as several.
func (l Launcher) Read(r *Reading, line string) {
	if r.Stages == nil {
		r.Stages = map[string]float64{}
	}
	for part := range strings.SplitSeq(line, "\r") {
		part = strings.TrimRight(part, " \n")
		if part == "" {
			continue
		}
		if n, ok := number(l.progress, "percent", part); ok {
			r.Progress = min(1, max(r.Progress, n/100))
			continue // progress is no news for the log
		}
		if id := match(l.deviceState, "device", part); id != "" {
			if r.Devices == nil {
				r.Devices = map[string]DeviceState{}
			}
			r.Devices[id] = l.state(part)
			continue // no news for the log either
		}
		for name, pattern := range l.stages {
			if n, ok := number(pattern, "seconds", part); ok {
				r.Stages[name] = n
			}
		}
		if n, ok := number(l.devicePeak, "bytes", part); ok {
			r.DevicePeakBytes = max(r.DevicePeakBytes, int64(n))
		}
		for _, rule := range l.Causes {
			if r.Cause == "" && rule.pattern != nil && rule.pattern.MatchString(part) {
				r.Cause = rule.Cause
			}
		}
		r.remember(part)
	}
}

// remember keeps a line among the last ones.
func (r *Reading) remember(line string) {
	const longest = 400
	if len(line) > longest {
		line = strings.ToValidUTF8(line[:longest], "") + "…"
	}
	if r.tail = append(r.tail, line); len(r.tail) > tailLines {
		r.tail = slices.Delete(r.tail, 0, len(r.tail)-tailLines)
	}
}

func (l Launcher) state(line string) DeviceState {
	read := func(group string) float64 {
		n, _ := strconv.ParseFloat(match(l.deviceState, group, line), 64)
		return n
	}
	groups := l.deviceState.SubexpNames()
	var s DeviceState
	for name, to := range map[string]*float64{"use": &s.Use, "celsius": &s.Celsius, "watts": &s.Watts, "mhz": &s.MHz} {
		if slices.Contains(groups, name) {
			*to = read(name)
		}
	}
	if slices.Contains(groups, "bytes") {
		s.Bytes = int64(read("bytes"))
	}
	return s
}

// Tail returns the last lines that were read.
func (r *Reading) Tail() string { return strings.ToValidUTF8(strings.Join(r.tail, "\n"), "") }

// Failure returns the cause of a failure with the given exit status: what a
// pattern said, else what the status says, else crashed.
func (l Launcher) Failure(r *Reading, exit int) string {
	if r.Cause != "" {
		return r.Cause
	}
	for _, rule := range l.Causes {
		if slices.Contains(rule.Exit, exit) {
			return rule.Cause
		}
	}
	return "crashed"
}

func number(pattern *regexp.Regexp, group, line string) (float64, bool) {
	if pattern == nil {
		return 0, false
	}
	m := pattern.FindStringSubmatch(line)
	if m == nil {
		return 0, false
	}
	n, err := strconv.ParseFloat(m[pattern.SubexpIndex(group)], 64)
	return n, err == nil
}
