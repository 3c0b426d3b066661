package sums

import "golang.org/x/sys/cpu"

// sixteenLanes is whether this processor has the registers, and the byte shuffle on them, and no instructions of its own for
// SHA-256 with which one buffer after the other is quicker.
var sixteenLanes = cpu.X86.HasAVX512F && cpu.X86.HasAVX512BW && !hasSHA()

// hasSHA asks for the SHA extensions (CPUID leaf 7, EBX bit 29), which the cpu package does not tell.
func hasSHA() bool

// block16 takes the states of sixteen hashes forward by so many blocks of 64 bytes, each from its own place.
//
//go:noescape
func block16(state *[8][Lanes]uint32, at *[Lanes]*byte, constants *[64]uint32, blocks int)
