package wire

import "time"

// Resealed says how many secrets were sealed with a new key.
type Resealed struct {
	Secrets    int  `json:"secrets"`
	OldKeyKept bool `json:"old_key_kept" doc:"runs under way may need it; rotate again when they are over"`
}

// Secret names a secret without telling it.
type Secret struct {
	Noun      string    `json:"noun"`
	Owner     string    `json:"owner"`
	Name      string    `json:"name"`
	CreatedAt time.Time `json:"created_at"`
}

// Reveal asks for a secret.
type Reveal struct {
	Noun  string `json:"noun"`
	Owner string `json:"owner"`
	Name  string `json:"name"`
}

// Revealed is a secret in the open.
type Revealed struct {
	Secret string `json:"secret"`
}

// AuditEntry is a line of the audit log.
type AuditEntry struct {
	At   time.Time `json:"at"`
	Who  string    `json:"who"`
	What string    `json:"what"`
}
