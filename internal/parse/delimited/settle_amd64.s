#include "textflag.h"

// func settleCLMUL(o *outside, m *masks, i, words int, within, begins uint64) (next int, odd uint64)
//
// It does what outside.settleGo does for words of which nothing is foreseen. An array of o or of m takes 256 bytes, but for the last.
TEXT ·settleCLMUL(SB), NOSPLIT, $0-64
	MOVQ o+0(FP), DI
	MOVQ m+8(FP), SI
	MOVQ i+16(FP), CX
	MOVQ words+24(FP), DX
	MOVQ within+32(FP), R8
	MOVQ begins+40(FP), R9
	XORQ R10, R10 // all bits where the word begins inside quotes
	XORQ R11, R11 // whether the word before ended with a closing quote
	PCMPEQL X1, X1

word:
	MOVQ 512(SI)(CX*8), R13
	ANDQ R8, R13 // quotes
	MOVQ R13, X0
	PCLMULQDQ $0, X1, X0 // each bit tells whether there are an odd number of quotes up to it
	MOVQ (SI)(CX*8), AX
	ANDQ R8, AX // ends
	MOVQ 256(SI)(CX*8), BX
	ANDQ R8, BX // feeds
	MOVQ $-1, R8
	MOVQ X0, R12
	XORQ R10, R12 // inside quotes
	ANDNQ AX, R12, AX
	MOVQ AX, (DI)(CX*8)
	ANDNQ BX, R12, BX
	MOVQ BX, 256(DI)(CX*8)
	MOVQ R12, R10
	SARQ $63, R10
	ANDNQ R13, R12, R14 // closing
	ANDQ R12, R13       // opening
	LEAQ (R9)(AX*2), R12 // where fields begin
	LEAQ (R11)(R14*2), R15 // after closing quotes
	MOVQ AX, R9
	SHRQ $63, R9
	MOVQ R14, R11
	SHRQ $63, R11
	MOVQ R12, BX
	ANDQ R13, BX
	MOVQ BX, 512(DI)(CX*8)
	MOVQ R15, BX
	ANDQ R13, BX
	MOVQ BX, 768(DI)(CX*8)
	ORQ R15, R12
	ANDNQ R13, R12, R12 // opening quotes that stand otherwise
	ORQ R13, AX
	ANDNQ R15, AX, AX // and what follows closing quotes
	INCQ CX
	ORQ AX, R12
	JNZ done
	CMPQ CX, DX
	JLT word

done:
	MOVQ CX, next+48(FP)
	MOVQ R12, odd+56(FP)
	RET
