package sqltext

import "golang.org/x/sys/cpu"

// hasAVX2 is whether this processor compares 32 bytes at once (AVX2).
var hasAVX2 = cpu.X86.HasAVX2

func setMarks(any, quote bitset, src []byte) {
	if hasAVX2 {
		setMarksWide(any, quote, src)
		return
	}
	setMarksPlain(any, quote, src)
}

// setMarksWide is setMarksPlain in steps of 32 bytes. There is at least one word.
//
//go:noescape
func setMarksWide(any, quote bitset, src []byte)
