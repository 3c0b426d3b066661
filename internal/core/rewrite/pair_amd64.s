#include "go_asm.h"
#include "textflag.h"

// func pairIndex(src []byte, p *pair) int
//
// Y0 and Y2 hold the two bytes in every place, Y1 and Y3 the bit that folds their case. SI is the place of the first
// byte of the pair, DX the last at which 32 bytes can be read for both; the last step stands there, and overlaps the one
// before.
TEXT ·pairIndex(SB), NOSPLIT, $0-40
	MOVQ         src_base+0(FP), DI
	MOVQ         src_len+8(FP), CX
	MOVQ         p+24(FP), BX
	MOVQ         pair_gap(BX), R8
	VPBROADCASTB pair_first(BX), Y0
	VPBROADCASTB pair_foldFirst(BX), Y1
	VPBROADCASTB pair_second(BX), Y2
	VPBROADCASTB pair_foldSecond(BX), Y3
	MOVQ         DI, SI
	LEAQ         -32(DI)(CX*1), DX
	SUBQ         R8, DX

step:
	VPOR      (SI), Y1, Y4
	VPOR      (SI)(R8*1), Y3, Y5
	VPCMPEQB  Y4, Y0, Y4
	VPCMPEQB  Y5, Y2, Y5
	VPAND     Y4, Y5, Y4
	VPMOVMSKB Y4, AX
	TESTL     AX, AX
	JNE       found
	CMPQ      SI, DX
	JEQ       none
	ADDQ      $32, SI
	CMPQ      SI, DX
	JLE       step
	MOVQ      DX, SI
	JMP       step

found:
	TZCNTL AX, AX
	SUBQ   DI, SI
	ADDQ   SI, AX
	VZEROUPPER
	MOVQ   AX, ret+32(FP)
	RET

none:
	MOVQ $-1, AX
	VZEROUPPER
	MOVQ AX, ret+32(FP)
	RET
