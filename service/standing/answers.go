package standing

import (
	"context"

	"rotanex.example/api"
	"rotanex.example/core/dispatch"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/queue"
)

func record(f queue.Frame) api.Frame {
	out := api.Frame{Shot: f.Shot, Frame: f.Frame, State: told(f.State), Failures: f.Failures, Cause: f.Cause}
	if f.State == queue.Done || f.State == queue.Rendering {
		out.Host, out.Crew = *f.Host, *f.Crew
	}
	if f.State == queue.Rendering && !f.Begun {
		out.Begins = f.LeasedAt.UTC()
	}
	if f.State == queue.Done {
		out.Seconds, out.Done = *f.Seconds, f.DoneAt.UTC()
		out.Sha256, out.Bytes, out.Format = *f.SHA256, *f.Bytes, api.FrameFormat(f.Format)
		if out.Layers = f.Seen.LayerNames(); f.Seen != nil {
			out.NotFinite = f.Seen.NotFinite
			if x := f.Seen.Flicker; x != nil {
				out.Flicker = api.Flicker{Kind: api.FlickerKind(x.Kind), Amount: x.Amount}
			}
		}
	}
	return out
}

// withFiles are frames with the files that they have beside their pictures.
func (s *Standing) withFiles(ctx context.Context, all ...queue.Frame) ([]api.Frame, error) {
	ids := []int64{}
	for _, f := range all {
		if f.State == queue.Done {
			ids = append(ids, f.ID)
		}
	}
	files, err := s.files.Of(ctx, ids)
	out := httpapi.Each(all, record)
	for i, f := range all {
		for _, x := range files[f.ID] {
			out[i].Files = append(out[i].Files, api.FrameFile{Name: x.Name, Kind: api.FrameFileKind(x.Kind), Ending: x.Ending, Sha256: x.SHA256, Bytes: x.Bytes})
		}
	}
	return out, err
}

func failedRecord(x FailedFrames) api.FailedFrames {
	return api.FailedFrames{Cause: x.Cause, Shot: x.Shot, Frames: x.Frames.String(), Count: x.Frames.Len()}
}

func tryRecord(t Try) api.Try {
	row := api.Try{
		Fence: t.Fence, Host: t.Host, Crew: t.Crew, Outcome: api.TryOutcome(t.Outcome), Cause: t.Cause, LogTail: t.LogTail, LogBytes: t.LogBytes,
		Started: t.StartedAt.UTC(), Ended: t.EndedAt.UTC(),
	}
	if t.Measured != nil {
		row.Measured = api.Measured{
			Seconds: t.Measured.Seconds, Stages: t.Measured.Stages, PeakMemoryBytes: t.Measured.PeakMemoryBytes, DevicePeakBytes: t.Measured.DevicePeakBytes,
			DeviceUse: t.Measured.DeviceUse, OpeningS: t.Measured.OpeningS, OpeningPartS: t.Measured.OpeningPartS, Conditions: t.Measured.Conditions, Settings: t.Measured.Settings,
		}
	}
	return row
}

func verdictRecords(all []CrewVerdict) []api.CrewVerdict {
	out := []api.CrewVerdict{}
	for _, v := range all {
		row := api.CrewVerdict{Host: v.Host, Crew: v.Crew, Run: v.Run, Shot: v.Shot, When: api.CrewVerdictWhen(v.When.String()), Why: v.Why(), Owed: v.Owed}
		if v.When == dispatch.Later && !v.At.IsZero() {
			row.At = v.At.UTC()
		}
		out = append(out, row)
	}
	return out
}

// Record is what waits, piece by piece.
func (w Waiting) Record() (out []api.Waiting) {
	if w.Proposals > 0 {
		out = append(out, api.Waiting{Run: w.Run, What: api.WaitingProposal})
	}
	for _, j := range w.Held {
		out = append(out, api.Waiting{Run: w.Run, What: api.WaitingProofs, Shot: j.Shot, Farm: j.Farm, Job: &j.ID, Frames: j.Frames})
	}
	for _, x := range w.Stranded {
		out = append(out, api.Waiting{Run: w.Run, What: api.WaitingStranded, Shot: x.Shot, Frames: x.Frames, Why: x.Why})
	}
	return out
}

// told is how the state of a frame is told: one that is blocked waits.
func told(s queue.State) api.FrameState {
	if s == queue.Blocked {
		s = queue.Waiting
	}
	return api.FrameState(s)
}
