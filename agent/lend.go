package agent

import (
	"context"
	"fmt"
	"os/user"
	"slices"
	"time"

	"rotanex.example/agent/desk"
	"rotanex.example/agent/tree"
	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/stock"
)

// Desk is how a machine is lent that somebody works at.
type Desk struct {
	Idle    time.Duration // lent when nobody has touched it for so long
	Command string        // prints for how many seconds nobody has touched it; "": the login manager is asked
	Return  Return        // what becomes of frames in hand when somebody comes back
	Owner   string        // the user who may lend it and take it back on the machine; "": who runs the agent

	Beside      bool     // go on beside whoever works here, with what is not kept back
	KeepCores   int      // cores that are kept back then
	KeepDevices []string // devices that are; none: that with the display
}

// Return is what becomes of a frame in hand when somebody comes back to the machine.
type Return string

// What may become of it.
const (
	GiveBack Return = "give-back" // others render it
	Finish   Return = "finish"    // it is rendered to its end, behind whoever works here
	Pause    Return = "pause"     // it stands still until they leave, for a while
)

// mostWhy is how many letters of a reason the service is told.
const mostWhy = 400

// pauseMost is for how long a frame stands still before it is given back.
const pauseMost = 30 * time.Minute

func (d *Desk) validate() error {
	if d == nil {
		return nil
	}
	if d.Idle <= 0 {
		return fmt.Errorf("--desk-idle %s: want for how long nobody has touched the machine when it is lent, such as 10m", d.Idle)
	}
	if !slices.Contains([]Return{GiveBack, Finish, Pause}, d.Return) {
		return fmt.Errorf("--desk-return %q: want give-back, finish or pause", d.Return)
	}
	if !d.Beside && (d.KeepCores != 0 || len(d.KeepDevices) > 0) {
		return fmt.Errorf("what is kept back beside whoever works here wants --desk-beside: without it nothing is rendered then")
	}
	if d.Owner != "" {
		if _, err := user.Lookup(d.Owner); err != nil {
			return fmt.Errorf("--desk-owner %s: %w", d.Owner, err)
		}
	}
	return nil
}

func (d *Desk) keepCores() int {
	if d == nil {
		return 0
	}
	return d.KeepCores
}

// idleness is who says when somebody touched the machine.
func (d *Desk) idleness() desk.Idleness {
	if d.Command != "" {
		return desk.Command(d.Command)
	}
	return &desk.Login{}
}

// openDesk makes the desk ready, if this is one, and finds out what is kept back.
func (a *Agent) openDesk(ctx context.Context) (err error) {
	c := a.Config.Desk
	if c == nil {
		return nil
	}
	for _, id := range c.KeepDevices {
		if id != stock.CPUDevice && a.found.Host.Device(id) == nil {
			return fmt.Errorf("--desk-keep-device %s: this machine has no such device; it has %s", id, devicesOf(a.found.Host))
		}
	}
	if c.Beside && len(c.KeepDevices) == 0 {
		c.KeepDevices = a.found.Displays
	}
	if a.desk, err = desk.Open(ctx, a.StateDir, desk.Rule{Idle: c.Idle, Leave: min(desk.DefaultLeave, c.Idle)}, c.idleness()); err == nil {
		a.at.Store(new(a.desk.Status()))
	}
	return err
}

func devicesOf(h stock.Host) (out []string) {
	for _, d := range h.Devices {
		out = append(out, d.ID)
	}
	return append(out, stock.CPUDevice)
}

// keepDesk looks after the desk until ctx ends, if this is one.
func (a *Agent) keepDesk(ctx context.Context, stop context.CancelCauseFunc) {
	if a.desk == nil {
		return
	}
	a.work.Go(func() { a.desk.Keep(ctx, a.deskIs) })
	a.work.Go(func() {
		if err := a.desk.Serve(ctx, a.StateDir, a.Config.Desk.Owner); err != nil && ctx.Err() == nil {
			stop(err)
		}
	})
}

// deskIs takes in how the desk stands now.
func (a *Agent) deskIs(s desk.Status) {
	a.at.Store(&s)
	a.Log.Info("desk", "state", s.State, "why", s.Why)
	a.back.Weigh(s.State != desk.Lent)
	if s.State != desk.Lent {
		a.work.Go(a.open.end) // what renders nothing holds devices for nobody
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	for x := range a.starts {
		x.deskIs(s, a.keeps(x.of.Devices))
	}
	a.beatSoon()
}

// inUse reports whether somebody works here, or may.
func (a *Agent) inUse() bool {
	s := a.at.Load()
	return s != nil && s.State != desk.Lent
}

// kept lists the devices that are not lent now.
func (a *Agent) kept() []string {
	switch {
	case !a.inUse():
		return []string{}
	case a.Config.Desk.Beside:
		return append([]string{}, a.Config.Desk.KeepDevices...)
	}
	return devicesOf(a.found.Host)
}

// keeps says why some of the devices are not lent now; "": they are.
func (a *Agent) keeps(devices []string) string {
	kept := a.kept()
	if !slices.ContainsFunc(devices, func(d string) bool { return slices.Contains(kept, d) }) {
		return ""
	}
	return a.at.Load().Why
}

// tellDesk tells the service how the desk stands before a frame is given back: else it would
// be leased here again at once.
func (a *Agent) tellDesk(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	_, err := client.Decode[api.HeartbeatAnswer](a.client.Heartbeat(ctx, api.Heartbeat{Boot: a.boot, Held: a.held(), Desk: a.deskReport(), Trouble: a.aside()}))
	if err != nil && ctx.Err() == nil {
		a.Log.Warn("telling of the desk", "error", err)
	}
}

// deskReport is how the desk stands for the service; nothing where this is none.
func (a *Agent) deskReport() (out api.DeskReport) {
	if s := a.at.Load(); s != nil {
		out = api.DeskReport{State: api.DeskState(s.State), ByHand: s.ByHand, Until: s.Until, Why: s.Why, Kept: a.kept()}
		if said := []rune(s.Why); len(said) > mostWhy { // it may quote a command
			out.Why = string(said[:mostWhy]) + "…"
		}
	}
	return out
}

// deskIs lets the frame go on, stand back, stand still or be given back. Kept is why its
// devices are not lent any more; "": they are.
func (s *start) deskIs(is desk.Status, kept string) {
	how := s.agent.Config.Desk.Return
	switch {
	case is.State != desk.Lent && kept != "" && how == GiveBack:
		s.giveBack(kept)
	case is.State != desk.Lent && kept != "" && how == Pause:
		s.stand(true)
	default:
		s.stand(false)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.beside = s.beside || is.State != desk.Lent
	if s.tree != nil {
		s.agent.back.Stand(s.tree.PID, is.State != desk.Lent)
	}
}

// giveBack ends the renderer, and lets others have the frames.
func (s *start) giveBack(why string) {
	s.mu.Lock()
	s.gives = why
	s.mu.Unlock()
	s.stop()
}

func (s *start) givesBack() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.gives
}

// stand lets the renderer stand still, or go on.
func (s *start) stand(still bool) {
	s.mu.Lock()
	was, can := !s.stopped.IsZero(), true
	now := time.Now()
	switch {
	case still && !was:
		s.stopped = now
		can = s.tree == nil || s.tree.Stand(true)
	case was && !still:
		s.stood += now.Sub(s.stopped)
		s.stopped, s.heard = time.Time{}, now
		if s.tree != nil {
			s.tree.Stand(false)
		}
	}
	s.mu.Unlock()
	if !can {
		s.giveBack(cannotStand)
	}
}

const cannotStand = "somebody works at the machine, and a renderer cannot stand still on this system"

// begun takes in the renderer, and puts it where it shall be.
func (s *start) begun(x *tree.Tree) {
	inUse := s.agent.inUse()
	s.agent.back.Join(x.PID, inUse, x.Grouped())
	s.mu.Lock()
	s.tree, s.beside = x, s.beside || inUse
	can := true
	if !s.stopped.IsZero() {
		s.stopped, can = time.Now(), x.Stand(true)
	}
	s.mu.Unlock()
	if !can {
		s.giveBack(cannotStand)
	}
}

// ended lets go of the renderer. Peak is what the kernel says its largest process held, in bytes.
func (s *start) ended(peak int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.tree = nil; !s.stopped.IsZero() {
		s.stood += time.Since(s.stopped)
	}
	s.peak = max(s.peak, peak)
}

// besideWhom says whether somebody worked here while a frame was rendered.
func besideWhom(beside bool) string {
	if beside {
		return "its owner"
	}
	return "nobody"
}

// silent is for how long the renderer has said nothing while it might have. A frame that
// has stood still for too long is given back.
func (s *start) silent(now time.Time) time.Duration {
	s.mu.Lock()
	still, silent := s.stopped, now.Sub(s.heard)
	s.mu.Unlock()
	if still.IsZero() {
		return silent
	}
	if now.Sub(still) > pauseMost {
		s.giveBack(fmt.Sprintf("it stood still for %s, as somebody works at the machine", pauseMost))
	}
	return 0
}
