#include "textflag.h"

// func endsAVX2(e *ends, data *byte, words int, delimiter, quote byte) (odd uint64)
//
// It does what ends.addGo does. The fields of e are a word each, in the order inside, closed, begins, last, lines, at.
TEXT ·endsAVX2(SB), NOSPLIT, $0-40
	MOVQ e+0(FP), DI
	MOVQ data+8(FP), SI
	MOVQ words+16(FP), CX
	VPBROADCASTB delimiter+24(FP), Y0
	VPBROADCASTB quote+25(FP), Y1
	MOVL $0x0a, AX
	VMOVD AX, X2
	VPBROADCASTB X2, Y2
	VPCMPEQB Y10, Y10, Y10
	MOVQ 0(DI), R10  // inside
	MOVQ 8(DI), R11  // closed
	MOVQ 16(DI), R9  // begins
	MOVQ 24(DI), R8  // last
	MOVQ 32(DI), R14 // lines
	MOVQ 40(DI), R15 // at
	XORQ DX, DX      // odd

word:
	VMOVDQU (SI), Y3
	VMOVDQU 32(SI), Y4
	VPCMPEQB Y1, Y3, Y5
	VPCMPEQB Y1, Y4, Y6
	VPMOVMSKB Y5, AX
	VPMOVMSKB Y6, BX
	SHLQ $32, BX
	ORQ BX, AX // quotes
	VPCMPEQB Y2, Y3, Y5
	VPCMPEQB Y2, Y4, Y6
	VPMOVMSKB Y5, R12
	VPMOVMSKB Y6, BX
	SHLQ $32, BX
	ORQ R12, BX
	POPCNTQ BX, BX
	ADDQ BX, R14
	VPCMPEQB Y0, Y3, Y7
	VPCMPEQB Y0, Y4, Y8
	VPOR Y5, Y7, Y7
	VPOR Y6, Y8, Y8
	VPMOVMSKB Y7, R12
	VPMOVMSKB Y8, BX
	SHLQ $32, BX
	ORQ BX, R12 // delimiters and line feeds

	BSRQ AX, BX
	LEAQ 1(R15)(BX*1), BX
	TESTQ AX, AX
	CMOVQNE BX, R8

	VMOVQ AX, X9
	VPCLMULQDQ $0, X10, X9, X9
	VMOVQ X9, BX
	XORQ R10, BX // inside quotes
	MOVQ BX, R10
	SARQ $63, R10
	ANDNQ AX, BX, R13 // closing
	ANDQ BX, AX       // opening
	LEAQ (R9)(R12*2), R9
	LEAQ (R11)(R13*2), R11
	ORQ R11, R9
	ANDNQ AX, R9, AX // opening quotes that stand otherwise
	ORQ AX, DX
	MOVQ R12, R9
	SHRQ $63, R9
	MOVQ R13, R11
	SHRQ $63, R11

	ADDQ $64, SI
	ADDQ $64, R15
	DECQ CX
	JNZ word
	VZEROUPPER

	MOVQ R10, 0(DI)
	MOVQ R11, 8(DI)
	MOVQ R9, 16(DI)
	MOVQ R8, 24(DI)
	MOVQ R14, 32(DI)
	MOVQ R15, 40(DI)
	MOVQ DX, odd+32(FP)
	RET
