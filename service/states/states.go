// Package states has the states of what is carried out over a long time and asked about by
// more packages than the one that moves it: runs, rented servers, farms' jobs. Who moves them,
// and when, is told in docs/architecture.md; frames' states are package queue's, computations'
// their own package's.
package states

// Run is the state of a run. Sweeps and trials, being runs of another kind, have it too.
type Run string

// The states of a run: package runs moves it.
const (
	RunRunning    Run = "running"
	RunPaused     Run = "paused"     // by a person: nothing is leased, what is rendered ends
	RunComplete   Run = "complete"   // every frame is done
	RunIncomplete Run = "incomplete" // it ended with frames that failed; it can be resumed
	RunCancelled  Run = "cancelled"  // by a person, for good
)

// Open reports whether the run is being carried out or may be again without a word to us.
func (r Run) Open() bool { return r == RunRunning || r == RunPaused }

// Server is the state of a rented server: package rental moves it.
//
//	planned → requested → starting → up → stopping → ending → stopped
//	       ↘ not-started (refused, not worth it any more, or beyond a cap)
type Server string

// The states of a rented server.
const (
	ServerPlanned    Server = "planned"
	ServerNotStarted Server = "not-started"
	ServerRequested  Server = "requested" // its source is being asked for it
	ServerStarting   Server = "starting"  // its source has it; it is billed
	ServerUp         Server = "up"        // its agent is there
	ServerStopping   Server = "stopping"  // its agent finishes what it renders
	ServerEnding     Server = "ending"    // its source is being told
	ServerStopped    Server = "stopped"   // and its meter is closed
)

// Ahead reports whether the server is still to come up.
func (s Server) Ahead() bool {
	return s == ServerPlanned || s == ServerRequested || s == ServerStarting
}

// Final reports whether the server is over, or never was.
func (s Server) Final() bool { return s == ServerStopped || s == ServerNotStarted }

// Job is the state of a farm's job: package farms moves it.
//
//	planned → sending → analysing → queued → proofing → held → rendering → closing → ended
//	       ↘ not-started                  rejected, refused ↗
type Job string

// The states of a farm's job.
const (
	JobPlanned    Job = "planned"
	JobNotStarted Job = "not-started"
	JobSending    Job = "sending"   // its package is on its way
	JobAnalysing  Job = "analysing" // by the farm
	JobQueued     Job = "queued"    // at the farm
	JobProofing   Job = "proofing"  // the farm renders its proof frames
	JobHeld       Job = "held"      // its proof frames wait for a person
	JobRendering  Job = "rendering"
	JobRejected   Job = "rejected" // by the farm
	JobRefused    Job = "refused"  // its proof frames, by a person
	JobClosing    Job = "closing"  // we are done with it; the farm is told
	JobEnded      Job = "ended"    // and its meter is closed
)

// Final reports whether the job is over, or never was.
func (j Job) Final() bool { return j == JobEnded || j == JobNotStarted }
