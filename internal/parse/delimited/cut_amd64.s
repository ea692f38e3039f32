#include "textflag.h"

// func cutBMI(c *cut, base, start int) (fields, lines, opened, next int)
//
// It does what cut.runGo does. A first quote and line feed are taken from each word, and forgotten where there is none, as that could not be foreseen. The slices of a cut are 24 bytes each, in the order dst, lines, opened, ends, feeds, opens.
TEXT ·cutBMI(SB), NOSPLIT, $0-56
	MOVQ c+0(FP), AX
	MOVQ 0(AX), DI   // dst
	MOVQ 24(AX), SI  // lines
	MOVQ 48(AX), CX  // opened
	MOVQ 72(AX), R8  // ends
	MOVQ 80(AX), R13 // how many words are left
	MOVQ 96(AX), R9  // feeds
	MOVQ 120(AX), R10 // opens
	MOVQ base+8(FP), R11
	MOVQ start+16(FP), R12
	XORQ DX, DX // fields

word:
	MOVQ (R8), BX
	MOVQ (R10), R15
	CMPQ R15, $1
	SBBQ R14, R14 // whether there is none

open:
	BLSMSKQ R15, AX
	ANDQ BX, AX
	POPCNTQ AX, AX
	ADDQ DX, AX
	MOVL AX, (CX)
	LEAQ 4(CX)(R14*4), CX
	BLSRQ R15, R15
	JNZ open

	MOVQ (R9), R15
	CMPQ R15, $1
	SBBQ R14, R14

line:
	BLSMSKQ R15, AX
	ANDQ BX, AX
	POPCNTQ AX, AX
	ADDQ DX, AX
	MOVL AX, (SI)
	TZCNTQ R15, AX
	ADDQ R11, AX
	MOVL AX, 4(SI)
	LEAQ 8(SI)(R14*8), SI
	BLSRQ R15, R15
	JNZ line

	POPCNTQ BX, AX // how many fields end here
	JZ next
	ADDQ AX, DX
	BSRQ BX, R15 // the last of them
	PREFETCHT0 1024(DI) // where those of words to come go
	MOVQ DI, R14 // where the next goes
	LEAQ (DI)(AX*8), DI

together:
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
	BLSRQ BX, BX
	TZCNTQ BX, AX
	ADDQ R11, AX
	MOVL R12, 32(R14)
	MOVL AX, 36(R14)
	LEAQ 1(AX), R12
	BLSRQ BX, BX
	TZCNTQ BX, AX
	ADDQ R11, AX
	MOVL R12, 40(R14)
	MOVL AX, 44(R14)
	LEAQ 1(AX), R12
	BLSRQ BX, BX
	TZCNTQ BX, AX
	ADDQ R11, AX
	MOVL R12, 48(R14)
	MOVL AX, 52(R14)
	LEAQ 1(AX), R12
	BLSRQ BX, BX
	TZCNTQ BX, AX
	ADDQ R11, AX
	MOVL R12, 56(R14)
	MOVL AX, 60(R14)
	LEAQ 1(AX), R12
	BLSRQ BX, BX
	TZCNTQ BX, AX
	ADDQ R11, AX
	MOVL R12, 64(R14)
	MOVL AX, 68(R14)
	LEAQ 1(AX), R12
	BLSRQ BX, BX
	TZCNTQ BX, AX
	ADDQ R11, AX
	MOVL R12, 72(R14)
	MOVL AX, 76(R14)
	LEAQ 1(AX), R12
	ADDQ $80, R14
	BLSRQ BX, BX
	JNZ together
	LEAQ 1(R11)(R15*1), R12

next:
	ADDQ $8, R8
	ADDQ $8, R9
	ADDQ $8, R10
	ADDQ $64, R11
	DECQ R13
	JNZ word

	MOVQ c+0(FP), AX
	MOVQ DX, fields+24(FP)
	SUBQ 24(AX), SI
	SHRQ $3, SI
	MOVQ SI, lines+32(FP)
	SUBQ 48(AX), CX
	SHRQ $2, CX
	MOVQ CX, opened+40(FP)
	MOVQ R12, next+48(FP)
	RET
