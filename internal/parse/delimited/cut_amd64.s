#include "textflag.h"

// func cutBMI(c *cut, base, start, from int) (words, fields, lines, next int)
//
// It does what cut.runGo does. The slices of a cut are 24 bytes each, in the order dst, lines, ends, feeds, quotes.
TEXT ·cutBMI(SB), NOSPLIT, $0-64
	MOVQ c+0(FP), AX
	MOVQ 0(AX), DI   // dst
	MOVQ 24(AX), SI  // lines
	MOVQ 48(AX), R8  // ends
	MOVQ 56(AX), R13 // how many words are left
	MOVQ 72(AX), R9  // feeds
	MOVQ 96(AX), R10 // quotes
	MOVQ base+8(FP), R11
	MOVQ start+16(FP), R12
	MOVQ from+24(FP), CX
	XORQ DX, DX // fields

word:
	// The bits before from are of no concern, in the first word, nor are those behind a quote.
	MOVQ (R10), AX
	SHRQ CX, AX
	SHLQ CX, AX
	BLSMSKQ AX, R15 // all bits where there is no quote
	MOVQ (R8), BX
	SHRQ CX, BX
	SHLQ CX, BX
	ANDQ R15, BX
	MOVQ (R9), R15
	ANDQ BX, R15
	MOVQ AX, CX // without a quote, the next word is taken from bit 0

	TESTQ R15, R15
	JZ fields

line:
	BLSMSKQ R15, AX
	ANDQ BX, AX
	POPCNTQ AX, AX
	ADDQ DX, AX
	MOVL AX, (SI)
	TZCNTQ R15, AX
	ADDQ R11, AX
	MOVL AX, 4(SI)
	ADDQ $8, SI
	BLSRQ R15, R15
	JNZ line

fields:
	POPCNTQ BX, AX // how many fields end here
	JZ next
	ADDQ AX, DX
	BSRQ BX, R15 // the last of them
	MOVQ DI, R14 // where the next goes
	LEAQ (DI)(AX*8), DI

four:
	TZCNTQ BX, AX
	ADDQ R11, AX
	MOVL R12, (R14)
	MOVL AX, 4(R14)
	LEAQ 1(AX), R12
	BLSRQ BX, BX
	TZCNTQ BX, AX
	ADDQ R11, AX
	MOVL R12, 8(R14)
	MOVL AX, 12(R14)
	LEAQ 1(AX), R12
	BLSRQ BX, BX
	TZCNTQ BX, AX
	ADDQ R11, AX
	MOVL R12, 16(R14)
	MOVL AX, 20(R14)
	LEAQ 1(AX), R12
	BLSRQ BX, BX
	TZCNTQ BX, AX
	ADDQ R11, AX
	MOVL R12, 24(R14)
	MOVL AX, 28(R14)
	LEAQ 1(AX), R12
	ADDQ $32, R14
	BLSRQ BX, BX
	JNZ four
	LEAQ 1(R11)(R15*1), R12

next:
	TESTQ CX, CX
	JNZ done
	ADDQ $8, R8
	ADDQ $8, R9
	ADDQ $8, R10
	ADDQ $64, R11
	DECQ R13
	JNZ word

done:
	MOVQ c+0(FP), AX
	MOVQ 56(AX), BX
	SUBQ R13, BX
	MOVQ BX, words+32(FP)
	MOVQ DX, fields+40(FP)
	SUBQ 24(AX), SI
	SHRQ $3, SI
	MOVQ SI, lines+48(FP)
	MOVQ R12, next+56(FP)
	RET
