//go:build !amd64

package sums

var sixteenLanes = false

func block16(*[8][Lanes]uint32, *[Lanes]*byte, *[64]uint32, int) { panic("not on this processor") }
