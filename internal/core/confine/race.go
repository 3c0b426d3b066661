//go:build race

package confine

// The race detector keeps several bytes for each byte of the program.
func init() { memory *= 12 }
