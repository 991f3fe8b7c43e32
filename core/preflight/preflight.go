// Package preflight checks a shot against a crew before anything is spent: what
// would stop it, what to look out for, and how to fix each.
package preflight

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/hashicorp/go-version"

	"rotanex.example/core/memory"
	"rotanex.example/core/pricing"
)

// Level is how bad a finding is.
type Level string

// The levels.
const (
	Blocker Level = "blocker" // the crew must not be given the shot
	Unknown Level = "unknown" // nobody has looked yet: nothing is to be spent on it before
	Warning Level = "warning" // it may, and somebody should know
)

// Finding is one line of a preflight.
type Finding struct {
	Level Level  `json:"level"`
	Check string `json:"check"` // source, agent, renderer, backend, memory, inputs, features, licence, folder, deadline, conditions
	Text  string `json:"text"`  // what is so, with the values
	Fix   string `json:"fix"`   // what to do about it
}

// Verdict is what all findings of a crew come to.
type Verdict string

// The verdicts, from the worst. Only what has been looked at and has no finding is clear.
const (
	Blocked  Verdict = "blocked"
	NotKnown Verdict = "not-known"
	Warnings Verdict = "warnings"
	Clear    Verdict = "clear"
)

// Judge returns what findings come to.
func Judge(all []Finding) Verdict {
	switch {
	case First(all, Blocker) != nil:
		return Blocked
	case First(all, Unknown) != nil:
		return NotKnown
	case len(all) > 0:
		return Warnings
	}
	return Clear
}

// First returns the first finding of a level, or nil.
func First(all []Finding, level Level) *Finding {
	if i := slices.IndexFunc(all, func(f Finding) bool { return f.Level == level }); i >= 0 {
		return &all[i]
	}
	return nil
}

// Shot is what a shot asks of whoever renders it.
type Shot struct {
	Name     string
	Launcher string
	Backend  string   // the one it must be rendered with; "" is any
	Devices  []string // what may render it: gpu, cpu, hybrid, the model of a GPU, or HOST/CREW; none is any
	Version  string   // of the renderer, as a constraint such as ">= 4.2"; "" is any
	Plugins  []string // the renderer must have
	Features []string // that it uses and that a device mode may lack
	Accepts  []string // features whose lack somebody has accepted by name
	Licence  string   // the pool that a renderer takes a seat from; "" is none
	Deadline time.Time
	Frames   int
}

// wants says what a shot wants of its renderer; "" for nothing in particular.
func (s Shot) wants() string {
	var out []string
	if s.Version != "" {
		out = append(out, "version "+s.Version)
	}
	return strings.Join(append(append(out, s.Plugins...), s.Features...), ", ")
}

// CheckVersion says what is wrong with a shot's version constraint, or nil.
func CheckVersion(constraint string) error {
	if constraint == "" {
		return nil
	}
	if _, err := version.NewConstraint(constraint); err != nil {
		return fmt.Errorf("version %q: want a comparison such as >= 4.2 or = 4.2.1", constraint)
	}
	return nil
}

// Renderer is a launcher's program as it is installed on a host.
type Renderer struct {
	Launcher string              `json:"launcher"`
	Version  string              `json:"version,omitempty"` // "" where it does not tell
	Plugins  []string            `json:"plugins,omitempty"`
	Settings []string            `json:"settings,omitempty"` // names of those that its launcher has
	CPUOnly  bool                `json:"cpu_only,omitempty"`
	Lacks    map[string][]string `json:"lacks,omitempty"` // features by device mode: gpu, cpu, hybrid
	Shares   bool                `json:"shares,omitempty"`
	Spills   bool                `json:"spills,omitempty"`
	Falls    bool                `json:"falls_back,omitempty"`
	Trouble  string              `json:"trouble,omitempty"` // why it cannot be started
}

// Folder is where a host renders to.
type Folder struct {
	Writable   bool    `json:"writable"`
	Network    bool    `json:"network"`
	Filesystem string  `json:"filesystem,omitempty"`
	FreeGB     float64 `json:"free_gb"`
}

// Licence is a pool of seats.
type Licence struct {
	Pool  string `json:"pool" yaml:"pool"`
	Kind  string `json:"kind" yaml:"kind"` // floating, named-user or node-locked
	Seats int    `json:"seats" yaml:"seats"`

	ExtraSeats     int           `json:"extra_seats,omitempty" yaml:"extra_seats,omitempty"`          // that could be hired for a run
	ExtraSeatPrice pricing.Money `json:"extra_seat_price,omitzero" yaml:"extra_seat_price,omitempty"` // for each, in the service's currency
}

// Kinds of licences.
const (
	Floating   = "floating"    // a seat for each host that renders, wherever it is
	NamedUser  = "named-user"  // one person's, never on a rented machine
	NodeLocked = "node-locked" // tied to one machine, never a rented one
)

// Crew is a crew with what is known of its host.
type Crew struct {
	Host, Crew string
	GPUs       int
	CPU        bool     // a member
	Models     []string // of its GPUs
	Backends   []string
	Unusable   []string // devices of the host that cannot be used, with the reason

	// What an agent tells; Asked is false where none was ever there, as on a server
	// not yet rented.
	Asked      bool
	Up         bool
	Draining   bool
	Trouble    string // for which its agent takes nothing; "" for none
	Launchers  []string
	Renderer   *Renderer // of the shot's launcher; nil is not known
	Missing    []string  // input files that are not there
	LookedFor  bool      // whether somebody looked for them
	Source     Source    // of what is not one's own
	Carry      bool      // files reach it in the shot's package alone
	Packed     bool      // the shot has a package
	Folder     *Folder
	Rented     bool
	OnBattery  bool
	OpensAt    time.Time // when its hours next begin, if it is closed now
	Licence    *Licence  // the shot's pool; nil is not known
	Fit        memory.Fit
	FrameS     float64 // predicted or measured seconds a frame; 0 is not known
	FrameLowS  float64
	FrameHighS float64
}

// Source is how the source of a crew that is not one's own can be dealt with.
type Source struct {
	Name    string
	Address string // "" where none is stored
	Asked   bool   // whether anything was asked there yet
	Fault   string // why it could not be dealt with the last time
}

// mode is how the crew renders, by the names that a launcher's lacks use.
func (c Crew) mode() string {
	switch {
	case c.GPUs > 0 && c.CPU:
		return "hybrid"
	case c.GPUs > 0:
		return "gpu"
	}
	return "cpu"
}

// Check returns what there is to say of the shot on the crew at a time, blockers first,
// then what nobody has looked at.
func Check(s Shot, c Crew, now time.Time) []Finding {
	p := &paper{}
	p.source(c)
	p.agent(s, c)
	p.renderer(s, c)
	p.devices(s, c)
	p.backend(s, c)
	p.memory(c)
	p.inputs(s, c)
	p.features(s, c)
	p.licence(s, c)
	p.folder(c)
	p.deadline(s, c, now)
	p.conditions(c)
	slices.SortStableFunc(p.lines, func(a, b Finding) int { return strings.Compare(string(a.Level), string(b.Level)) })
	return p.lines
}

type paper struct{ lines []Finding }

func (p *paper) block(check, fix, format string, args ...any) {
	p.lines = append(p.lines, Finding{Blocker, check, fmt.Sprintf(format, args...), fix})
}

func (p *paper) warn(check, fix, format string, args ...any) {
	p.lines = append(p.lines, Finding{Warning, check, fmt.Sprintf(format, args...), fix})
}

func (p *paper) unknown(check, fix, format string, args ...any) {
	p.lines = append(p.lines, Finding{Unknown, check, fmt.Sprintf(format, args...), fix})
}

// source says whether there is a way to what is not one's own.
func (p *paper) source(c Crew) {
	switch s := c.Source; {
	case s.Name == "":
	case s.Address == "":
		p.block("source", "store its address: rotanex sources import FILE", "there is no way to %s", s.Name)
	case s.Fault != "":
		p.block("source", "correct its address or secret (rotanex sources import, sources secret); it is asked again by itself", "%s could not be dealt with at %s: %s", s.Name, s.Address, s.Fault)
	case !s.Asked:
		p.unknown("source", "ask again in a few seconds", "nobody has asked %s anything yet", s.Name)
	}
}

func (p *paper) agent(s Shot, c Crew) {
	switch {
	case !c.Asked && len(c.Launchers) > 0 && !slices.Contains(c.Launchers, s.Launcher):
		p.block("renderer", "put "+s.Launcher+" on its image, then among the offer's launchers", "its servers do not have %s; they have %s", s.Launcher, strings.Join(c.Launchers, ", "))
		return
	case !c.Asked && len(c.Launchers) > 0:
		return
	case !c.Asked:
		p.unknown("renderer", "say so in the stock file, as of the image of its servers: launchers: ["+s.Launcher+"]", "whether its servers have %s is not known", s.Launcher)
		return
	case !c.Up:
		p.block("agent", "start rotanex-agent there", "its agent is not up")
	case c.Trouble != "":
		p.block("agent", "fix that on "+c.Host+": it takes work again by itself", "%s has set itself aside: %s", c.Host, c.Trouble)
	case c.Draining:
		p.block("agent", "rotanex hosts drain "+c.Host+" --undo", "%s drains: it takes nothing new", c.Host)
	}
	if c.Asked && len(c.Launchers) > 0 && !slices.Contains(c.Launchers, s.Launcher) { // with none, no agent has reported yet
		p.block("renderer", "start the agent of "+c.Host+" with --allow "+strings.Join(append(slices.Clone(c.Launchers), s.Launcher), ","),
			"its agent may not start %s; it may start %s", s.Launcher, strings.Join(c.Launchers, ", "))
	}
}

func (p *paper) renderer(s Shot, c Crew) {
	r := c.Renderer
	if r == nil {
		if wants := s.wants(); wants != "" && !c.Asked && slices.Contains(c.Launchers, s.Launcher) {
			p.unknown("renderer", "start an agent with "+s.Launcher+" on a host of your own: servers are taken to have what it has", "whether %s there has %s is not known", s.Launcher, wants)
		}
		return
	}
	if r.Trouble != "" {
		p.block("renderer", "install "+s.Launcher+" on "+c.Host+" and start its agent again", "%s cannot be started there: %s", s.Launcher, r.Trouble)
		return
	}
	if r.CPUOnly && c.mode() != "cpu" {
		p.block("renderer", "use the crew cpu of "+c.Host, "%s renders on the CPU alone", s.Launcher)
	}
	if s.Version != "" {
		p.version(s, c, *r)
	}
	for _, name := range s.Plugins {
		if !slices.Contains(r.Plugins, name) {
			p.block("renderer", "install the plugin "+name+" on "+c.Host+" and start its agent again", "%s there has no plugin %s", s.Launcher, name)
		}
	}
}

func (p *paper) version(s Shot, c Crew, r Renderer) {
	want, err := version.NewConstraint(s.Version)
	if err != nil {
		return // refused when the shot was stored
	}
	has, err := version.NewVersion(r.Version)
	if err != nil {
		p.warn("renderer", "look it up on "+c.Host, "%s there does not tell its version; the shot wants %s", s.Launcher, s.Version)
		return
	}
	if !want.Check(has) {
		p.block("renderer", fmt.Sprintf("install %s %s on %s", s.Launcher, s.Version, c.Host), "%s there is version %s, the shot wants %s", s.Launcher, r.Version, s.Version)
	}
}

// devices keeps a shot to the devices that it may use.
func (p *paper) devices(s Shot, c Crew) {
	if len(s.Devices) > 0 && !slices.ContainsFunc(s.Devices, c.is) {
		p.block("devices", "use another crew, or add "+c.mode()+" or "+c.Host+"/"+c.Crew+" to the shot's devices",
			"the shot may be rendered on %s alone", strings.Join(s.Devices, ", "))
	}
}

// is reports whether a crew is meant by a name of devices: gpu, cpu, hybrid, the model of all its GPUs, or HOST/CREW.
func (c Crew) is(name string) bool {
	return name == c.mode() || name == c.Host+"/"+c.Crew ||
		c.GPUs > 0 && !slices.ContainsFunc(c.Models, func(model string) bool { return !strings.EqualFold(model, name) })
}

func (p *paper) backend(s Shot, c Crew) {
	if s.Backend != "" && c.GPUs > 0 && !slices.Contains(c.Backends, s.Backend) {
		p.block("backend", "update its driver, or allow the shot another backend: it has "+strings.Join(c.Backends, ", "),
			"the shot wants backend %s, which not all of its devices have", s.Backend)
	}
	for _, u := range c.Unusable {
		p.warn("backend", "fix it to gain a device", "not used: %s", u)
	}
}

func (p *paper) memory(c Crew) {
	f := c.Fit
	fix := "use a crew whose smallest device has more"
	if f.Without != nil {
		fix = fmt.Sprintf("leave %s out: the limit becomes %s, and it %s", f.Without.Device, f.Without.Limit, f.Without.Verdict)
	}
	switch f.Verdict {
	case memory.DoesNotFit:
		if f.Renderers == 0 {
			fix = "use a host with more memory"
		}
		p.block("memory", fix, "%s", f.Why)
	case memory.Spills:
		p.warn("memory", fix, "%s: about %.1f times as slow", f.Why, f.Slowdown)
	case memory.FallsBack:
		p.warn("memory", fix, "%s", f.Why)
	case memory.Fits:
		if f.Tight {
			p.warn("memory", fix, "%s", f.Why)
		}
	}
}

func (p *paper) inputs(s Shot, c Crew) {
	if c.Carry && !c.Packed {
		p.block("inputs", "rotanex packages make "+s.Name+" FOLDER FILE…", "%s has no package: nothing of it could be opened there", s.Name)
		return
	}
	for i, file := range c.Missing {
		if i == 5 {
			p.block("inputs", "copy them too", "and %d more files are missing", len(c.Missing)-i)
			break
		}
		if c.Carry {
			p.block("inputs", "make the package again with it: rotanex packages make "+s.Name+" FOLDER FILE…", "%s is not in the package of %s", file, s.Name)
			continue
		}
		p.block("inputs", "copy it into the scene folder of "+c.Host, "%s is missing there", file)
	}
	if !c.LookedFor && c.Asked && c.Up {
		p.unknown("inputs", "ask again in a few seconds", "its agent has not yet looked for the input files")
	}
}

func (p *paper) features(s Shot, c Crew) {
	if c.Renderer == nil {
		return
	}
	for _, lacking := range c.Renderer.Lacks[c.mode()] {
		if !slices.Contains(s.Features, lacking) {
			continue
		}
		if slices.Contains(s.Accepts, lacking) {
			p.warn("features", "nothing: it was accepted for this shot", "in %s mode %s renders no %s: the picture differs", c.mode(), s.Launcher, lacking)
			continue
		}
		p.block("features", "render on another kind of crew, or accept it by name: accepts: ["+lacking+"] in the shot",
			"in %s mode %s renders no %s: the picture would silently differ", c.mode(), s.Launcher, lacking)
	}
}

func (p *paper) licence(s Shot, c Crew) {
	if s.Licence == "" {
		return
	}
	l := c.Licence
	switch {
	case l == nil:
		p.block("licence", "store it: rotanex licences put "+s.Licence+" --kind floating --seats N", "the licence pool %s is not known", s.Licence)
	case l.Seats < 1:
		p.block("licence", "hire a seat, or free one", "%s has no seat", l.Pool)
	case l.Kind == NamedUser && c.Rented:
		p.block("licence", "take a floating licence, or stay on owned hosts", "%s is for one named user: it may not be used on somebody else's machine", l.Pool)
	case l.Kind == NodeLocked && c.Rented:
		p.block("licence", "take a floating licence, or stay on owned hosts", "%s is tied to one machine: it cannot be used on a rented one", l.Pool)
	case l.Kind == NamedUser:
		p.warn("licence", "give the shot to one host only", "%s is for one named user: one host at a time", l.Pool)
	case l.Kind == NodeLocked:
		p.warn("licence", "give the shot to the machine that the licence is tied to", "%s is tied to one machine", l.Pool)
	default:
		p.warn("licence", "hire more seats to use more hosts at once", "%s has %d %s seats: no more hosts than that at once", l.Pool, l.Seats, l.Kind)
	}
}

// lowGB is the free space below which a folder may fill up under a shot.
const lowGB = 5

func (p *paper) folder(c Crew) {
	f := c.Folder
	switch {
	case f == nil:
	case !f.Writable:
		p.block("folder", "make its agent's state folder writable", "frames cannot be written there")
	case f.Network:
		p.warn("folder", "start the agent with --state-dir on a disk of its own", "it renders to a network drive (%s): frames may come late or broken", f.Filesystem)
	case f.FreeGB < lowGB:
		p.warn("folder", "make room", "its disk has %.1f GB free", f.FreeGB)
	}
}

func (p *paper) deadline(s Shot, c Crew, now time.Time) {
	if s.Deadline.IsZero() {
		return
	}
	left := s.Deadline.Sub(now)
	if left <= 0 {
		p.block("deadline", "give the shot another deadline", "its deadline %s is past", s.Deadline.UTC().Format("2006-01-02 15:04 MST"))
		return
	}
	if c.FrameS <= 0 {
		return
	}
	const s1 = float64(time.Second)
	if c.FrameLowS > left.Seconds() || c.FrameLowS == 0 && c.FrameS > left.Seconds() {
		p.block("deadline", "use a faster crew", "one frame takes about %s, %s are left", round(time.Duration(c.FrameS*s1)), round(left))
		return
	}
	if whole := time.Duration(c.FrameS * float64(s.Frames) * s1); whole > left {
		p.warn("deadline", "give it part of the frames: rotanex plan "+s.Name, "alone it would take %s for %d frames, %s are left", round(whole), s.Frames, round(left))
	}
}

func (p *paper) conditions(c Crew) {
	if c.OnBattery {
		p.warn("conditions", "plug it in", "%s runs on its battery: slower, and not for long", c.Host)
	}
	if !c.OpensAt.IsZero() {
		p.warn("conditions", "none needed: plans keep to its hours", "%s is closed now and opens %s", c.Host, c.OpensAt.UTC().Format("Mon 15:04 MST"))
	}
}

// round shows a length of time as a person would say it.
func round(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	}
	return fmt.Sprintf("%.0f h", d.Hours())
}
