package timing

import (
	"context"
	"slices"
	"strings"
)

// Line is a line of a report on a file of times: a time that was measured, or a crew
// that could be formed. Seconds; null where there is none.
type Line struct {
	Shot     string            `json:"shot"`
	Host     string            `json:"host"`
	Crew     string            `json:"crew"`
	Models   []string          `json:"models,omitempty"`
	Backend  string            `json:"backend,omitempty"`
	Frame    *int              `json:"frame,omitempty"`
	Settings map[string]string `json:"settings,omitempty"`
	Row      int               `json:"line,omitempty"` // of the file

	Measured *float64 `json:"measured_s"`
	// Predicted is what the model says with everything it was shown; the typical
	// time lies between Low and High with nine chances in ten.
	Predicted *float64 `json:"predicted_s"`
	Low       *float64 `json:"low_s"`
	High      *float64 `json:"high_s"`
	Parts     *Parts   `json:"parts,omitempty"`
	Note      string   `json:"note,omitempty"`

	// LeftOut is what the model says of this row when it is not shown it: the row
	// lies between Low and High with nine chances in ten.
	LeftOut     *float64 `json:"left_out_s"`
	LeftOutLow  *float64 `json:"left_out_low_s"`
	LeftOutHigh *float64 `json:"left_out_high_s"`
	LeftOutWhy  string   `json:"left_out_why,omitempty"`
}

// Report says what the model makes of times: a line for each measured row, warm-ups
// left out, in the order of the file, then one for each crew of a host that was not
// measured, at most crews of them for each host and shot. progress is as for LeaveOut.
func Report(ctx context.Context, all []Time, crews int, progress func(done, of int)) ([]Line, error) {
	observed, of := Observe(all)
	m, err := Fit(observed)
	if err != nil {
		return nil, err
	}
	left, err := LeaveOut(ctx, observed, func(n int) {
		if progress != nil {
			progress(n, len(observed))
		}
	})
	if err != nil {
		return nil, err
	}
	var out []Line
	for i, o := range observed {
		t := all[of[i]]
		line := t.line()
		line.Row, line.Measured = t.Line, &t.Seconds
		if o.Part != "" {
			line.Frame = t.Frame
		}
		p, err := m.Predict(o.Subject, o.Place, []string{o.Part}, o.Condition, false)
		if err != nil {
			return nil, err
		}
		line.predict(p)
		if l := left[i]; l.Why != "" {
			line.LeftOutWhy = l.Why
		} else {
			line.LeftOut, line.LeftOutLow, line.LeftOutHigh = &l.Seconds, &l.Low, &l.High
		}
		out = append(out, line)
	}
	more, err := unmeasured(ctx, m, all, crews)
	return append(out, more...), err
}

func (t Time) line() Line {
	return Line{Shot: t.Shot, Host: t.Host, Crew: t.Crew(), Models: t.Models, Backend: t.Backend, Settings: t.Settings}
}

func (l *Line) predict(p Prediction) {
	l.Predicted, l.Low, l.High, l.Parts, l.Note = &p.Seconds, &p.Low, &p.High, &p.Parts, p.Note
}

// unmeasured predicts the crews that could be formed and were not timed.
func unmeasured(ctx context.Context, m *Model, all []Time, limit int) ([]Line, error) {
	type kind struct{ subject, host, backend string }
	first := map[kind]Time{}
	measured := map[kind][]string{} // by kind, the crews as sorted device ids
	var kinds []kind
	for _, t := range all {
		if t.WarmUp {
			continue
		}
		k := kind{t.Subject(), t.Host, t.Backend}
		if gpus, _ := t.Place().devices(); gpus == 0 {
			k.backend = "" // a CPU by itself is the same in every backend
		} else if _, known := first[k]; !known {
			first[k] = t
			kinds = append(kinds, k)
		}
		measured[k] = append(measured[k], sortedCrew(t.Devices))
	}
	var out []Line
	for _, k := range kinds {
		devices := devicesOf(all, k.host)
		for _, picked := range formed(all, k.host, limit) {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			t := first[k]
			p := Place{Host: k.host, Backend: k.backend}
			named := t.Models != nil
			t.Devices, t.Models = nil, nil
			for _, i := range picked {
				t.Devices = append(t.Devices, devices[i].id)
				if named {
					t.Models = append(t.Models, devices[i].member.Model)
				}
				p.Members = append(p.Members, devices[i].member)
			}
			p.Crew = t.Crew()
			where := k
			if gpus, _ := p.devices(); gpus == 0 {
				p.Backend, where.backend, t.Backend = "", "", ""
			}
			if name := sortedCrew(t.Devices); slices.Contains(measured[where], name) {
				continue
			} else if where.backend == "" {
				measured[where] = append(measured[where], name) // once for all backends
			}
			line := t.line()
			if why := m.Unknown(k.subject, p); why != "" {
				line.Note = why
			} else {
				prediction, err := m.Predict(k.subject, p, nil, "", false)
				if err != nil {
					return nil, err
				}
				line.predict(prediction)
			}
			out = append(out, line)
		}
	}
	return out, nil
}

func sortedCrew(devices []string) string {
	return strings.Join(slices.Sorted(slices.Values(devices)), "+")
}
