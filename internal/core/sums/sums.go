// Package sums computes SHA-256 (FIPS 180-4) of many buffers at once.
//
// SHA-256 of one buffer is a chain: every step needs the one before. Sixteen buffers are sixteen chains that need
// nothing of one another, and a processor with 512-bit registers walks all of them with the instructions of one. On
// such a processor a batch of small files is summed several times as fast as one after the other; elsewhere Of does
// the same with crypto/sha256.
//
//	digests := sums.Of([][]byte{first, second, third})
//
// The order and the sizes of the buffers do not matter; buffers of like sizes keep all lanes busy.
package sums

import (
	"crypto/sha256"
	"encoding"
	"encoding/binary"
)

const (
	// Lanes is how many buffers are summed side by side.
	Lanes = 16
	// fewest is from how many lanes on the wide way is the faster one.
	fewest     = 4
	blockBytes = 64
)

// lane is a buffer on its way: what of it is still to be summed in whole blocks, and where its digest goes.
type lane struct {
	of   int
	done int
	left int // whole blocks
}

// Of returns the SHA-256 of each buffer.
func Of(parts [][]byte) [][sha256.Size]byte {
	out := make([][sha256.Size]byte, len(parts))
	if !sixteenLanes || len(parts) < fewest {
		for i, p := range parts {
			out[i] = sha256.Sum256(p)
		}
		return out
	}
	var state [8][Lanes]uint32
	var lanes [Lanes]lane
	next, busy := 0, 0
	fill := func(l int) bool {
		if next == len(parts) {
			lanes[l].of = -1
			return false
		}
		lanes[l] = lane{of: next, left: len(parts[next]) / blockBytes}
		for w := range initial {
			state[w][l] = initial[w]
		}
		next++
		return true
	}
	for l := range lanes {
		if fill(l) {
			busy++
		}
	}
	for busy > 0 {
		if busy >= fewest {
			step(&state, &lanes, parts)
		}
		for l := range lanes {
			for lanes[l].of >= 0 && (lanes[l].left == 0 || busy < fewest) {
				out[lanes[l].of] = end(&state, l, parts[lanes[l].of], lanes[l].done)
				if !fill(l) {
					busy--
				}
			}
		}
	}
	return out
}

// step takes all lanes forward by as many blocks as the shortest has left. Lanes without a buffer look at that of
// another: what comes of it is not used.
func step(state *[8][Lanes]uint32, lanes *[Lanes]lane, parts [][]byte) {
	blocks, some := -1, -1
	for l := range lanes {
		if lanes[l].of >= 0 && (blocks < 0 || lanes[l].left < blocks) {
			blocks = lanes[l].left
		}
		if lanes[l].of >= 0 && lanes[l].left > 0 {
			some = l
		}
	}
	if blocks <= 0 || some < 0 {
		return
	}
	var at [Lanes]*byte
	for l := range lanes {
		from := l
		if lanes[l].of < 0 {
			from = some
		}
		at[l] = &parts[lanes[from].of][lanes[from].done]
	}
	block16(state, &at, &constants, blocks)
	for l := range lanes {
		if lanes[l].of >= 0 {
			lanes[l].left -= blocks
			lanes[l].done += blocks * blockBytes
		}
	}
}

// end sums what is left of a buffer, with its padding, with crypto/sha256, which can be told where it stands.
func end(state *[8][Lanes]uint32, l int, part []byte, done int) [sha256.Size]byte {
	if done == 0 {
		return sha256.Sum256(part)
	}
	var kept [108]byte // as crypto/sha256 keeps a hash that is under way
	copy(kept[:], "sha\x03")
	for w := range state {
		binary.BigEndian.PutUint32(kept[4+4*w:], state[w][l])
	}
	binary.BigEndian.PutUint64(kept[100:], uint64(done))
	h := sha256.New()
	if err := h.(encoding.BinaryUnmarshaler).UnmarshalBinary(kept[:]); err != nil {
		return sha256.Sum256(part) // another Go may keep it otherwise; the digest is the same
	}
	h.Write(part[done:])
	return [sha256.Size]byte(h.Sum(nil))
}

// initial are the first 32 bits of the fractions of the square roots of the first eight primes (section 5.3.3).
var initial = [8]uint32{0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a, 0x510e527f, 0x9b05688c, 0x1f83d9ab, 0x5be0cd19}

// constants are those of the cube roots of the first 64 primes (section 4.2.2).
var constants = [64]uint32{
	0x428a2f98, 0x71374491, 0xb5c0fbcf, 0xe9b5dba5, 0x3956c25b, 0x59f111f1, 0x923f82a4, 0xab1c5ed5,
	0xd807aa98, 0x12835b01, 0x243185be, 0x550c7dc3, 0x72be5d74, 0x80deb1fe, 0x9bdc06a7, 0xc19bf174,
	0xe49b69c1, 0xefbe4786, 0x0fc19dc6, 0x240ca1cc, 0x2de92c6f, 0x4a7484aa, 0x5cb0a9dc, 0x76f988da,
	0x983e5152, 0xa831c66d, 0xb00327c8, 0xbf597fc7, 0xc6e00bf3, 0xd5a79147, 0x06ca6351, 0x14292967,
	0x27b70a85, 0x2e1b2138, 0x4d2c6dfc, 0x53380d13, 0x650a7354, 0x766a0abb, 0x81c2c92e, 0x92722c85,
	0xa2bfe8a1, 0xa81a664b, 0xc24b8b70, 0xc76c51a3, 0xd192e819, 0xd6990624, 0xf40e3585, 0x106aa070,
	0x19a4c116, 0x1e376c08, 0x2748774c, 0x34b0bcb5, 0x391c0cb3, 0x4ed8aa4a, 0x5b9cca4f, 0x682e6ff3,
	0x748f82ee, 0x78a5636f, 0x84c87814, 0x8cc70208, 0x90befffa, 0xa4506ceb, 0xbef9a3f7, 0xc67178f2,
}
