// Package releases is what the service does with releases: build them, import what was made elsewhere, verify, compare,
// keep and discard their archives. A starter's releases change under the starter's lock.
package releases

import (
	"nestseed/internal/service/engine"
	"nestseed/internal/service/kinds"
	"nestseed/internal/service/records"
	"nestseed/internal/service/sources"
	"nestseed/internal/service/vault"
)

// Releases is the releases of the records, and their archives.
type Releases struct {
	DB      *records.DB
	Vault   *vault.Vault
	Stored  *Stored
	Sources *sources.Sources
	Engine  *engine.Engine
	Kinds   *kinds.Kinds
	// Data is the service's folder; what comes from outside is unpacked and uploaded below it.
	Data string
}
