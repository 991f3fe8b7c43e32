package notify

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"rotanex.example/core/forecast"
	"rotanex.example/core/replan"
	"rotanex.example/service/hosts"
	"rotanex.example/service/states"
)

// cause is something there is to tell.
type cause struct {
	Subject Subject
	Key     string // tells it from all others
	Since   time.Time
	Run     *uuid.UUID
	Text    string // in a sentence
}

// lasting reports whether it stays so for ever.
func (c cause) lasting() bool { return c.Subject == Done || c.Subject == BacklogDone }

// ended is for how long it is told that a run ended, to receivers that were there.
const ended = 24 * time.Hour

// causes reads what there is to tell, as things stand.
func (n *Notify) causes(ctx context.Context) (out []cause, err error) {
	db := n.Store.WithContext(ctx)
	over, err := endedRuns(db, n.Clock.Now().Add(-ended))
	if err != nil {
		return nil, err
	}
	for _, r := range over {
		out = append(out, r.cause(n.Zone))
	}
	behind, err := outlooks(db)
	if err != nil {
		return nil, err
	}
	for _, o := range behind {
		if replan.Due(replan.Outlook{Chance: o.Chance}, o.Wanted) {
			out = append(out, o.cause(n.Zone))
		}
	}
	asked, err := proposals(db)
	if err != nil {
		return nil, err
	}
	for _, p := range asked {
		out = append(out, cause{Proposal, "proposal " + p.ID.String(), p.At, &p.RunID, fmt.Sprintf("%s: a new schedule is proposed: %s. Why: %s", name(p.RunID, p.Shots), p.Gain, p.Cause)})
	}
	quiet, err := silentHosts(db, n.Clock.WallNow().Add(-hosts.LostLong))
	if err != nil {
		return nil, err
	}
	for _, h := range quiet {
		out = append(out, cause{HostLost, "host " + h.Host, time.Time{}, nil, fmt.Sprintf("%s is not heard of any more; %d frames that it was to render go to others", h.Host, h.Owes)})
	}
	held, err := n.held(ctx)
	return append(out, held...), err
}

// held is what of runs waits for a person, but for proposals.
func (n *Notify) held(ctx context.Context) (out []cause, err error) {
	all, err := n.Standing.AllWaiting(ctx)
	for _, w := range all {
		run := name(w.Run, "")
		for _, j := range w.Held {
			out = append(out, cause{Proofs, "proofs " + j.ID.String(), time.Time{}, &w.Run, fmt.Sprintf("%s: proof frames of %s at %s wait to be looked at; %d frames wait for that", run, j.Shot, j.Farm, j.Frames)})
		}
		for _, s := range w.Stranded {
			out = append(out, cause{Stranded, fmt.Sprintf("stranded %s %s", w.Run, s.Shot), time.Time{}, &w.Run, fmt.Sprintf("%s: nobody is left to render %d frames of %s: %s", run, s.Frames, s.Shot, s.Why)})
		}
	}
	return out, err
}

// name is how a run is called at the start of a sentence.
func name(run uuid.UUID, shots string) string {
	if shots == "" {
		return "Run " + run.String()[:8]
	}
	return fmt.Sprintf("Run %s (%s)", run.String()[:8], shots)
}

func (r endedRun) cause(zone *time.Location) cause {
	c := cause{Done, r.Key, r.EndedAt, &r.ID, ""}
	if r.Priority < lowest {
		c.Subject = BacklogDone
	}
	at := r.EndedAt.In(zone).Format("Mon 15:04 MST")
	switch r.State {
	case states.RunComplete:
		c.Text = fmt.Sprintf("%s is complete: all %d frames are done, %s", name(r.ID, r.Shots), r.Frames, at)
	case states.RunCancelled:
		c.Text = fmt.Sprintf("%s was cancelled with %d of %d frames done, %s", name(r.ID, r.Shots), r.Done, r.Frames, at)
	default:
		c.Text = fmt.Sprintf("%s ended with %d of %d frames that could not be rendered, %s; rotanex resume %s tries them again", name(r.ID, r.Shots), r.Frames-r.Done, r.Frames, at, r.ID.String()[:8])
	}
	return c
}

func (o outlook) cause(zone *time.Location) cause {
	finish := "it never ends as things stand"
	if o.Finish != nil {
		finish = "it is expected to end " + o.Finish.In(zone).Format("Mon 15:04 MST")
	}
	return cause{Behind, "behind " + o.RunID.String(), o.LookedAt, &o.RunID, fmt.Sprintf(
		"%s falls behind: %s to be in time, where %s are asked for; %s", name(o.RunID, o.Shots), forecast.Percent(o.Chance), forecast.Percent(o.Wanted), finish)}
}
