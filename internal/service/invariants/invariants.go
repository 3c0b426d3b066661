// Package invariants is what must hold between the records and the world: on hosts, on database servers, and among the runs of the
// service. The simulation of the engine and the command nestseed doctor --hosts judge by it.
//
//	faults := invariants.Check(view)
//
// A View is gathered by whoever asks, at one moment. What is under way then has a journal, which names what may be there.
package invariants

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Thing is a folder, database, account or page on a host.
type Thing struct {
	Host string
	What string // "folder", "database", "user" or "page"
	Name string
	// ID tells it from others of its name; "" where that is not known, or the name is used once.
	ID string
	// By is the record that names it, or what bears the mark of this service by itself, for people: "site alder", "safety copy 7 of site
	// alder", "run 12".
	By string
}

func (t Thing) key() string { return t.Host + "\x00" + t.What + "\x00" + t.Name }

func (t Thing) String() string { return fmt.Sprintf("%s %s on host %s", t.What, t.Name, t.Host) }

// Run is a run that has not ended.
type Run struct {
	ID      int64
	Title   string
	Waiting bool
	Reason  string // why it stands still: what could not be cleaned up
	Aside   bool   // it waits for runs that it has started
	Open    int    // of those, how many have not ended
	Alive   bool   // the instance that works on it has renewed its leases in time
	Blocked bool   // another run works on its target, or must end there what it has begun
	For     time.Duration
}

// View is what is believed and what is.
type View struct {
	// Must are the things that a record says are there.
	Must []Thing
	// May are those that the journal of a run that has not ended names: they are there or not, whatever Must says.
	May []Thing
	// There are the things that are there: all that bear the mark of this service, and those of Must.
	There []Thing
	Runs  []Run
}

// Fault is something that does not hold, with what to do about it.
type Fault struct {
	Sentence string
	Remedy   string
	Run      int64 // that is to be cancelled; 0 for none
}

// Standstill is how long a run may wait or work without anybody at it: a takeover and more.
const Standstill = time.Minute

// Check returns what does not hold, in order.
func Check(v View) []Fault {
	var out []Fault
	fault := func(remedy, format string, args ...any) {
		out = append(out, Fault{Sentence: fmt.Sprintf(format, args...), Remedy: remedy})
	}
	there := map[string]Thing{}
	for _, t := range v.There {
		there[t.key()] = t
	}
	going := map[string]bool{} // what a run makes or removes
	for _, m := range v.May {
		going[m.key()] = true
	}
	named := map[string]string{}
	for _, m := range v.Must {
		is, has := there[m.key()]
		by, twice := named[m.key()]
		switch {
		case twice:
			fault("look at both, and retire the one that does not answer", "%s is named by %s and by %s", m, by, m.By)
		case !has && going[m.key()]:
		case !has:
			fault("put it back from a backup of the host, or undo or retire the site", "%s is not there, and %s names it", m, m.By)
		case m.ID != "" && is.ID != "" && m.ID != is.ID:
			fault("look at it before anything is done with the site", "%s is not the one that %s means: something else has its name", m, m.By)
		}
		named[m.key()] = m.By
	}
	for _, m := range v.May {
		if named[m.key()] == "" {
			named[m.key()] = m.By
		}
	}
	// Names that bear the mark are used once. What is found under one on another host is the same thing: hosts may be the same machine,
	// reached in several ways.
	anywhere := map[[2]string]bool{}
	for _, t := range slices.Concat(v.Must, v.May) {
		anywhere[[2]string{t.What, t.Name}] = true
	}
	for _, t := range v.There {
		if named[t.key()] == "" && !anywhere[[2]string{t.What, t.Name}] {
			fault("look at it, and remove it by hand", "%s was made by this service, and no record names it", t)
		}
	}
	for _, r := range v.Runs {
		before := len(out)
		const remedy = "cancel it, which gives it up"
		switch {
		case r.For < Standstill:
		case r.Aside && r.Open > 0, r.Waiting && r.Blocked, !r.Waiting && !r.Aside && r.Alive:
		case r.Reason != "":
			fault(remedy, "run %d (%s) could not be cleaned up after: %s", r.ID, r.Title, r.Reason)
		case r.Aside:
			fault(remedy, "run %d (%s) waits for runs that have ended", r.ID, r.Title)
		case r.Waiting:
			fault(remedy, "run %d (%s) waits, and nothing keeps it", r.ID, r.Title)
		default:
			fault(remedy, "run %d (%s) is said to be worked on, and no instance of the service does", r.ID, r.Title)
		}
		if len(out) > before {
			out[before].Run = r.ID
		}
	}
	slices.SortFunc(out, func(a, b Fault) int { return strings.Compare(a.Sentence, b.Sentence) })
	return out
}
