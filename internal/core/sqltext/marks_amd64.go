package sqltext

import "golang.org/x/sys/cpu"

// wide is whether this processor compares 32 bytes at once (AVX2).
var wide = cpu.X86.HasAVX2

func setMarks(any, quote bitset, src []byte) {
	if wide {
		setMarksWide(any, quote, src)
		return
	}
	setMarksPlain(any, quote, src)
}

// setMarksWide is setMarksPlain in steps of 32 bytes. There is at least one word.
//
//go:noescape
func setMarksWide(any, quote bitset, src []byte)
