#include "textflag.h"

// Sixteen lanes: element i of every 512-bit register belongs to the hash of buffer i.
//
// Z0 to Z7 hold the working variables a to h of FIPS 180-4 section 6.2.2, Z8 to Z23 the sixteen words of the message
// schedule that are at hand, Z24 to Z27 are scratch, Z31 is the byte order. The schedule's names follow from where
// TRANSPOSE leaves its words.

#define W0 Z8
#define W1 Z10
#define W2 Z9
#define W3 Z11
#define W4 Z12
#define W5 Z14
#define W6 Z13
#define W7 Z15
#define W8 Z16
#define W9 Z18
#define W10 Z17
#define W11 Z19
#define W12 Z20
#define W13 Z22
#define W14 Z21
#define W15 Z23

// big turns the bytes of each word around: messages are big-endian.
DATA big<>+0x00(SB)/8, $0x0405060700010203
DATA big<>+0x08(SB)/8, $0x0c0d0e0f08090a0b
DATA big<>+0x10(SB)/8, $0x0405060700010203
DATA big<>+0x18(SB)/8, $0x0c0d0e0f08090a0b
DATA big<>+0x20(SB)/8, $0x0405060700010203
DATA big<>+0x28(SB)/8, $0x0c0d0e0f08090a0b
DATA big<>+0x30(SB)/8, $0x0405060700010203
DATA big<>+0x38(SB)/8, $0x0c0d0e0f08090a0b
GLOBL big<>(SB), RODATA|NOPTR, $64

// LOAD reads the next block of buffer i.
#define LOAD(i, z) \
	MOVQ      (8*i)(DI), R9 \
	VMOVDQU32 (R9)(R8*1), z

// A matrix of 16 by 16 words is turned: first words of neighbours are interleaved, then pairs of words, then the
// quarters of registers change places.
#define WORDS(a, b) \
	VPUNPCKLDQ b, a, Z24 \
	VPUNPCKHDQ b, a, b \
	VMOVDQA32  Z24, a

#define PAIRS(a, b) \
	VPUNPCKLQDQ b, a, Z24 \
	VPUNPCKHQDQ b, a, b \
	VMOVDQA32   Z24, a

#define QUARTERS(a, b, c, d) \
	VSHUFI32X4 $0x44, b, a, Z24 \
	VSHUFI32X4 $0xee, b, a, Z25 \
	VSHUFI32X4 $0x44, d, c, Z26 \
	VSHUFI32X4 $0xee, d, c, Z27 \
	VSHUFI32X4 $0x88, Z26, Z24, a \
	VSHUFI32X4 $0xdd, Z26, Z24, b \
	VSHUFI32X4 $0x88, Z27, Z25, c \
	VSHUFI32X4 $0xdd, Z27, Z25, d \
	VPSHUFB    Z31, a, a \
	VPSHUFB    Z31, b, b \
	VPSHUFB    Z31, c, c \
	VPSHUFB    Z31, d, d

// ROUND is one of the 64 (section 6.2.2, step 3). Instead of moving the eight variables on, the next round is given
// their names moved on. VPTERNLOGD takes the truth table of the three: 0x96 is exclusive or, 0xca chooses, 0xe8 is
// the majority.
#define ROUND(a, b, c, d, e, f, g, h, w, k) \
	VPRORD      $6, e, Z24 \
	VPRORD      $11, e, Z25 \
	VPRORD      $25, e, Z26 \
	VPADDD      w, h, h \
	VPADDD.BCST k(AX), h, h \
	VPTERNLOGD  $0x96, Z26, Z25, Z24 \
	VMOVDQA32   e, Z27 \
	VPTERNLOGD  $0xca, g, f, Z27 \
	VPADDD      Z24, h, h \
	VPADDD      Z27, h, h \
	VPRORD      $2, a, Z24 \
	VPRORD      $13, a, Z25 \
	VPRORD      $22, a, Z26 \
	VPADDD      h, d, d \
	VPTERNLOGD  $0x96, Z26, Z25, Z24 \
	VMOVDQA32   a, Z27 \
	VPTERNLOGD  $0xe8, c, b, Z27 \
	VPADDD      Z24, h, h \
	VPADDD      Z27, h, h

// SCHEDULE makes the word that comes sixteen rounds later, in the place of the one that was used (step 1).
#define SCHEDULE(w, w1, w9, w14) \
	VPRORD     $7, w1, Z24 \
	VPRORD     $18, w1, Z25 \
	VPSRLD     $3, w1, Z26 \
	VPADDD     w9, w, w \
	VPTERNLOGD $0x96, Z26, Z25, Z24 \
	VPRORD     $17, w14, Z25 \
	VPRORD     $19, w14, Z26 \
	VPSRLD     $10, w14, Z27 \
	VPADDD     Z24, w, w \
	VPTERNLOGD $0x96, Z27, Z26, Z25 \
	VPADDD     Z25, w, w

// KEEP adds what the block began with to what came of it (step 4).
#define KEEP(i, z) \
	VPADDD    (64*i)(SI), z, z \
	VMOVDQU32 z, (64*i)(SI)

// func block16(state *[8][Lanes]uint32, at *[Lanes]*byte, constants *[64]uint32, blocks int)
TEXT ·block16(SB), NOSPLIT, $0-32
	MOVQ state+0(FP), SI
	MOVQ at+8(FP), DI
	MOVQ constants+16(FP), DX
	MOVQ blocks+24(FP), CX
	XORQ R8, R8
	VMOVDQU32 big<>(SB), Z31
	VMOVDQU32 0(SI), Z0
	VMOVDQU32 64(SI), Z1
	VMOVDQU32 128(SI), Z2
	VMOVDQU32 192(SI), Z3
	VMOVDQU32 256(SI), Z4
	VMOVDQU32 320(SI), Z5
	VMOVDQU32 384(SI), Z6
	VMOVDQU32 448(SI), Z7

block:
	LOAD(0, Z8)
	LOAD(1, Z9)
	LOAD(2, Z10)
	LOAD(3, Z11)
	LOAD(4, Z12)
	LOAD(5, Z13)
	LOAD(6, Z14)
	LOAD(7, Z15)
	LOAD(8, Z16)
	LOAD(9, Z17)
	LOAD(10, Z18)
	LOAD(11, Z19)
	LOAD(12, Z20)
	LOAD(13, Z21)
	LOAD(14, Z22)
	LOAD(15, Z23)
	WORDS(Z8, Z9)
	WORDS(Z10, Z11)
	WORDS(Z12, Z13)
	WORDS(Z14, Z15)
	WORDS(Z16, Z17)
	WORDS(Z18, Z19)
	WORDS(Z20, Z21)
	WORDS(Z22, Z23)
	PAIRS(Z8, Z10)
	PAIRS(Z9, Z11)
	PAIRS(Z12, Z14)
	PAIRS(Z13, Z15)
	PAIRS(Z16, Z18)
	PAIRS(Z17, Z19)
	PAIRS(Z20, Z22)
	PAIRS(Z21, Z23)
	QUARTERS(Z8, Z12, Z16, Z20)
	QUARTERS(Z10, Z14, Z18, Z22)
	QUARTERS(Z9, Z13, Z17, Z21)
	QUARTERS(Z11, Z15, Z19, Z23)

	MOVQ DX, AX
	ROUND(Z0, Z1, Z2, Z3, Z4, Z5, Z6, Z7, W0, 0)
	ROUND(Z7, Z0, Z1, Z2, Z3, Z4, Z5, Z6, W1, 4)
	ROUND(Z6, Z7, Z0, Z1, Z2, Z3, Z4, Z5, W2, 8)
	ROUND(Z5, Z6, Z7, Z0, Z1, Z2, Z3, Z4, W3, 12)
	ROUND(Z4, Z5, Z6, Z7, Z0, Z1, Z2, Z3, W4, 16)
	ROUND(Z3, Z4, Z5, Z6, Z7, Z0, Z1, Z2, W5, 20)
	ROUND(Z2, Z3, Z4, Z5, Z6, Z7, Z0, Z1, W6, 24)
	ROUND(Z1, Z2, Z3, Z4, Z5, Z6, Z7, Z0, W7, 28)
	ROUND(Z0, Z1, Z2, Z3, Z4, Z5, Z6, Z7, W8, 32)
	ROUND(Z7, Z0, Z1, Z2, Z3, Z4, Z5, Z6, W9, 36)
	ROUND(Z6, Z7, Z0, Z1, Z2, Z3, Z4, Z5, W10, 40)
	ROUND(Z5, Z6, Z7, Z0, Z1, Z2, Z3, Z4, W11, 44)
	ROUND(Z4, Z5, Z6, Z7, Z0, Z1, Z2, Z3, W12, 48)
	ROUND(Z3, Z4, Z5, Z6, Z7, Z0, Z1, Z2, W13, 52)
	ROUND(Z2, Z3, Z4, Z5, Z6, Z7, Z0, Z1, W14, 56)
	ROUND(Z1, Z2, Z3, Z4, Z5, Z6, Z7, Z0, W15, 60)
	MOVQ $3, BX

sixteen:
	ADDQ $64, AX
	SCHEDULE(W0, W1, W9, W14)
	ROUND(Z0, Z1, Z2, Z3, Z4, Z5, Z6, Z7, W0, 0)
	SCHEDULE(W1, W2, W10, W15)
	ROUND(Z7, Z0, Z1, Z2, Z3, Z4, Z5, Z6, W1, 4)
	SCHEDULE(W2, W3, W11, W0)
	ROUND(Z6, Z7, Z0, Z1, Z2, Z3, Z4, Z5, W2, 8)
	SCHEDULE(W3, W4, W12, W1)
	ROUND(Z5, Z6, Z7, Z0, Z1, Z2, Z3, Z4, W3, 12)
	SCHEDULE(W4, W5, W13, W2)
	ROUND(Z4, Z5, Z6, Z7, Z0, Z1, Z2, Z3, W4, 16)
	SCHEDULE(W5, W6, W14, W3)
	ROUND(Z3, Z4, Z5, Z6, Z7, Z0, Z1, Z2, W5, 20)
	SCHEDULE(W6, W7, W15, W4)
	ROUND(Z2, Z3, Z4, Z5, Z6, Z7, Z0, Z1, W6, 24)
	SCHEDULE(W7, W8, W0, W5)
	ROUND(Z1, Z2, Z3, Z4, Z5, Z6, Z7, Z0, W7, 28)
	SCHEDULE(W8, W9, W1, W6)
	ROUND(Z0, Z1, Z2, Z3, Z4, Z5, Z6, Z7, W8, 32)
	SCHEDULE(W9, W10, W2, W7)
	ROUND(Z7, Z0, Z1, Z2, Z3, Z4, Z5, Z6, W9, 36)
	SCHEDULE(W10, W11, W3, W8)
	ROUND(Z6, Z7, Z0, Z1, Z2, Z3, Z4, Z5, W10, 40)
	SCHEDULE(W11, W12, W4, W9)
	ROUND(Z5, Z6, Z7, Z0, Z1, Z2, Z3, Z4, W11, 44)
	SCHEDULE(W12, W13, W5, W10)
	ROUND(Z4, Z5, Z6, Z7, Z0, Z1, Z2, Z3, W12, 48)
	SCHEDULE(W13, W14, W6, W11)
	ROUND(Z3, Z4, Z5, Z6, Z7, Z0, Z1, Z2, W13, 52)
	SCHEDULE(W14, W15, W7, W12)
	ROUND(Z2, Z3, Z4, Z5, Z6, Z7, Z0, Z1, W14, 56)
	SCHEDULE(W15, W0, W8, W13)
	ROUND(Z1, Z2, Z3, Z4, Z5, Z6, Z7, Z0, W15, 60)
	DECQ BX
	JNZ  sixteen

	KEEP(0, Z0)
	KEEP(1, Z1)
	KEEP(2, Z2)
	KEEP(3, Z3)
	KEEP(4, Z4)
	KEEP(5, Z5)
	KEEP(6, Z6)
	KEEP(7, Z7)
	ADDQ $64, R8
	DECQ CX
	JNZ  block
	VZEROUPPER
	RET

// func hasSHA() bool
TEXT ·hasSHA(SB), NOSPLIT, $0-1
	MOVL $7, AX
	XORL CX, CX
	CPUID
	SHRL $29, BX
	ANDL $1, BX
	MOVB BX, ret+0(FP)
	RET
