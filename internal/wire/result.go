package wire

// BuildResult is the release that was built.
type BuildResult struct {
	Release      string        `json:"release"`
	ArchiveBytes int64         `json:"archive_bytes"`
	Totals       ReleaseTotals `json:"totals"`
	Copied       Amount        `json:"copied"`       // from the release before
	SharedBytes  int64         `json:"shared_bytes"` // of the archive; they lie in the store once, with those of releases before
	Notes        []string      `json:"notes,omitempty" format:"sentence"`
}

// ImportResult is the release that was imported.
type ImportResult struct {
	Release      string        `json:"release"`
	ArchiveBytes int64         `json:"archive_bytes"`
	Totals       ReleaseTotals `json:"totals"`
	Kind         string        `json:"kind"`
	Address      string        `json:"address"`
	Ours         bool          `json:"ours"` // it was an archive of a release already
	Notes        []string      `json:"notes,omitempty" format:"sentence"`
}

// ProvisionResult is the site that was made.
type ProvisionResult struct {
	Site      string       `json:"site"`
	Address   string       `json:"address"`
	Admin     string       `json:"admin"`
	Database  string       `json:"database"`
	User      string       `json:"user"`
	Files     int64        `json:"files"`
	Rows      int64        `json:"rows"`
	Rewritten RewriteTally `json:"rewritten"`
	// Tokens is in how many places text tokens were replaced, by field.
	Tokens map[string]int64 `json:"tokens,omitempty"`
	// CopyFolder is where the site lies that was replaced, relative to the host's folder.
	CopyFolder string `json:"copy_folder,omitempty"`
	// Kept is how many rows were taken over from it, by part.
	Kept map[string]int64 `json:"kept,omitempty"`
	// KeptAccounts says that the accounts of the old site, or of the release, are those that log in.
	KeptAccounts bool `json:"kept_accounts,omitempty"`
	// Adjustments is what was done so that the site does not work for where it came from, in sentences.
	Adjustments []string `json:"adjustments,omitempty" format:"sentence"`
	// Quiet says that mail is kept from going out.
	Quiet bool `json:"quiet,omitempty"`
	// Upgraded is the version that the CMS brought its tables to, where code and tables differed.
	Upgraded  string     `json:"upgraded,omitempty"`
	Steps     []StepTime `json:"steps"`
	Login     string     `json:"login"` // which login works, in a sentence
	Report    *Report    `json:"report"`
	NewFaults []string   `json:"new_faults" doc:"checks that failed by something that was not there before: in the source, or on the site that was replaced"`
}

// TableResult is one report over all rows.
type TableResult struct {
	Rows   []TableOutcome `json:"rows"`
	Made   int            `json:"made"`
	Failed int            `json:"failed"`
}

// TableOutcome is what became of a row.
type TableOutcome struct {
	Site    string `json:"site"`
	Address string `json:"address,omitempty"`
	Status  string `json:"status"` // done, failed, cancelled, or there: it was made before
	Error   string `json:"error,omitempty" format:"sentence"`
	RunID   int64  `json:"run_id,omitempty"`
	Faults  int    `json:"faults"`
	Millis  int64  `json:"ms"`
}

// CopyResult is a safety copy that was made.
type CopyResult struct {
	Site  string `json:"site"`
	Bytes int64  `json:"bytes"`
}

// MoveResult is the site where it is now.
type MoveResult struct {
	Site    string  `json:"site"`
	Address string  `json:"address"`
	Report  *Report `json:"report"`
}

// RotateResult names what has new passwords.
type RotateResult struct {
	Site  string `json:"site"`
	User  string `json:"user"`
	Admin string `json:"admin"`
}
