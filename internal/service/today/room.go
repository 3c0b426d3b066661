package today

import (
	"context"
	"fmt"

	"nestseed/internal/core/progress"
	"nestseed/internal/service/records"
)

// Bounds of what is enough: what is less is a warning, and a fault where not even one more site fits.
const (
	leastFree  = 1 << 30 // bytes
	sitesAhead = 5       // of the size of the largest
)

// ofHosts says which hosts have little room left, or could not be reached when somebody looked last.
func ofHosts(ctx context.Context, db *records.DB) (groups []Group, err error) {
	hosts, err := db.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	uses, err := db.HostUses(ctx)
	if err != nil {
		return nil, err
	}
	for _, h := range hosts {
		if item, is := roomOf(h.Room, uses[h.ID]); is {
			groups = append(groups, Group{Noun: "host", Name: h.Name, Title: h.Name, Items: []Item{item}})
		}
	}
	return groups, nil
}

func roomOf(r *records.Room, use records.HostUse) (Item, bool) {
	switch {
	case r == nil:
		return Item{}, false
	case r.Trouble != "":
		return Item{Severity: "fault", Sentence: "it could not be reached: " + r.Trouble, Act: Open}, true
	case r.FreeBytes == nil || *r.FreeBytes >= max(leastFree, sitesAhead*use.Largest):
		return Item{}, false
	}
	free := progress.SizeText(*r.FreeBytes)
	if use.Sites > 0 && *r.FreeBytes < use.Largest {
		return Item{Severity: "fault", Sentence: fmt.Sprintf("%s free: another site like its largest (%s) does not fit", free,
			progress.SizeText(use.Largest)), Act: Open}, true
	}
	sentence := free + " free"
	if use.Sites > 0 {
		sentence += fmt.Sprintf(": its largest site takes %s", progress.SizeText(use.Largest))
	}
	return Item{Severity: "warning", Sentence: sentence, Act: Open}, true
}

// group says when the service has little room of its own, for records, archives and uploads.
func (d Disk) group() []Group {
	if d.FreeBytes == nil {
		return nil
	}
	free, err := d.FreeBytes()
	if err != nil || free >= 2*leastFree {
		return nil // what cannot be asked is told by what fails for it
	}
	item := Item{Severity: "warning", Act: Open, Sentence: progress.SizeText(free) +
		" free for records, archives and uploads: discard archives that nobody needs, or make room"}
	if free < leastFree/4 {
		item.Severity = "fault"
	}
	return []Group{{Noun: "service", Name: "disk", Title: "The disk of the service", Items: []Item{item}}}
}
