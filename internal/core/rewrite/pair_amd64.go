package rewrite

import "golang.org/x/sys/cpu"

// hasAVX2 is whether this processor compares 32 bytes at once (AVX2), and counts trailing zeros (BMI1).
var hasAVX2 = cpu.X86.HasAVX2 && cpu.X86.HasBMI1

// pairIndex returns the first place of src where both bytes of the pair are, in steps of 32 places, and -1 when there is
// none. src has at least 32 bytes more than the pair is wide.
//
//go:noescape
func pairIndex(src []byte, p *pair) int
