#include "textflag.h"

// func setMarksWide(words []mark, src []byte)
//
// Y0 holds a quote in every place, Y1 a backslash. Each step makes one word.
TEXT ·setMarksWide(SB), NOSPLIT, $0-48
	MOVQ         words_base+0(FP), DI
	MOVQ         words_len+8(FP), CX
	MOVQ         src_base+24(FP), SI
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
	MOVQ      AX, 8(DI)
	ADDQ      $64, SI
	ADDQ      $16, DI
	DECQ      CX
	JNE       step
	VZEROUPPER
	RET
