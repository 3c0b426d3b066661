#include "textflag.h"

// func setMarksWide(any, quote bitset, src []byte)
//
// Y0 holds a quote in every place, Y1 a backslash. Each step makes one word of both.
TEXT ·setMarksWide(SB), NOSPLIT, $0-72
	MOVQ         any_base+0(FP), DI
	MOVQ         any_len+8(FP), CX
	MOVQ         quote_base+24(FP), DX
	MOVQ         src_base+48(FP), SI
	MOVL         $0x27, AX
	VMOVD        AX, X0
	VPBROADCASTB X0, Y0
	MOVL         $0x5c, AX
	VMOVD        AX, X1
	VPBROADCASTB X1, Y1

step:
	VMOVDQU   (SI), Y2
	VMOVDQU   32(SI), Y3
	VPCMPEQB  Y2, Y0, Y4
	VPCMPEQB  Y3, Y0, Y5
	VPCMPEQB  Y2, Y1, Y6
	VPCMPEQB  Y3, Y1, Y7
	VPOR      Y4, Y6, Y6
	VPOR      Y5, Y7, Y7
	VPMOVMSKB Y4, AX
	VPMOVMSKB Y5, BX
	VPMOVMSKB Y6, R8
	VPMOVMSKB Y7, R9
	SHLQ      $32, BX
	SHLQ      $32, R9
	ORQ       BX, AX
	ORQ       R9, R8
	MOVQ      R8, (DI)
	MOVQ      AX, (DX)
	ADDQ      $64, SI
	ADDQ      $8, DI
	ADDQ      $8, DX
	DECQ      CX
	JNE       step
	VZEROUPPER
	RET
