package wire

import (
	"encoding/json"
	"time"
)

// Run is background work.
type Run struct {
	ID        int64           `json:"id"`
	Job       string          `json:"job" enum:"survey,build,verify,compare,import,retention,provision,check,undo,copy,retire,drop-copy,rotate,move,table,screenshots,install-code,install-refresh,install-undo,install-remove"`
	Title     string          `json:"title"`
	About     About           `json:"about" doc:"what it is about"`
	Status    string          `json:"status" enum:"waiting,working,cleanup-failed,done,failed,cancelled" doc:"a run whose cleanup failed has failed, and what it made could not be taken back yet"`
	Who       string          `json:"who"`
	Progress  Progress        `json:"progress"`
	Result    json.RawMessage `json:"result,omitempty" doc:"of one run, not in lists"`
	Error     string          `json:"error,omitempty" format:"sentence"`
	Repeats   bool            `json:"repeats,omitempty" doc:"it can be started again as it was"`
	Committed bool            `json:"committed,omitempty" doc:"it is past the point where it can be cancelled"`
	CreatedAt time.Time       `json:"created_at"`
	StartedAt *time.Time      `json:"started_at,omitempty"`
	EndedAt   *time.Time      `json:"ended_at,omitempty"`
}

// Ahead is the steps that a run still has before it, with how long they took in another run of its sort.
type Ahead struct {
	Run   int64      `json:"run,omitempty" doc:"the run that they are known from"`
	Steps []StepTime `json:"steps"`
}

// About names one thing.
type About struct {
	Noun string `json:"noun"`
	Name string `json:"name"`
}

// Statuses of runs.
const (
	Waiting   = "waiting"
	Working   = "working"
	Done      = "done"
	Failed    = "failed"
	Cancelled = "cancelled"
	// CleanupFailed is that of a run that has failed, while what it made could not be taken back yet.
	CleanupFailed = "cleanup-failed"
)

// Ended reports whether the run is over.
func (r Run) Ended() bool {
	return r.Status != Waiting && r.Status != Working && r.Status != CleanupFailed
}

// LogLine is a sentence in a run's log.
type LogLine struct {
	ID       int64     `json:"id"`
	At       time.Time `json:"at"`
	Sentence string    `json:"sentence" format:"sentence"`
}

// Retry starts a run once more. From is another release, where the run makes a site.
type Retry struct {
	From string `json:"from,omitempty" doc:"a release, or a starter for its newest"`
}
