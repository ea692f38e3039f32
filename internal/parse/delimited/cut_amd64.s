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
	MOVQ start+16(FP), AX
	MOVL AX, (DI)
	// The end of a field and the start of the next are written together: base, and above it the byte behind, to both of which an offset is added.
	MOVQ base+8(FP), R12
	MOVQ R12, AX
	SHLQ $32, AX
	ADDQ AX, R12
	MOVQ $0x4000000040, R11 // the bytes of a word, twice
	MOVQ $0x100000000, AX
	ADDQ AX, R12
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
	ADDL R12, AX
	MOVL AX, 4(SI)
	LEAQ 8(SI)(R14*8), SI
	BLSRQ R15, R15
	JNZ line

	POPCNTQ BX, AX // how many fields end here
	JZ next
	ADDQ AX, DX
	PREFETCHT0 1024(DI) // where those of words to come go
	MOVQ DI, R14 // where the next goes
	LEAQ (DI)(AX*8), DI

together:
	TZCNTQ BX, AX
	RORXQ $32, AX, R15
	ADDQ R12, AX
	ADDQ R15, AX
	MOVQ AX, 4(R14)
	BLSRQ BX, BX
	TZCNTQ BX, AX
	RORXQ $32, AX, R15
	ADDQ R12, AX
	ADDQ R15, AX
	MOVQ AX, 12(R14)
	BLSRQ BX, BX
	TZCNTQ BX, AX
	RORXQ $32, AX, R15
	ADDQ R12, AX
	ADDQ R15, AX
	MOVQ AX, 20(R14)
	BLSRQ BX, BX
	TZCNTQ BX, AX
	RORXQ $32, AX, R15
	ADDQ R12, AX
	ADDQ R15, AX
	MOVQ AX, 28(R14)
	BLSRQ BX, BX
	TZCNTQ BX, AX
	RORXQ $32, AX, R15
	ADDQ R12, AX
	ADDQ R15, AX
	MOVQ AX, 36(R14)
	BLSRQ BX, BX
	TZCNTQ BX, AX
	RORXQ $32, AX, R15
	ADDQ R12, AX
	ADDQ R15, AX
	MOVQ AX, 44(R14)
	BLSRQ BX, BX
	TZCNTQ BX, AX
	RORXQ $32, AX, R15
	ADDQ R12, AX
	ADDQ R15, AX
	MOVQ AX, 52(R14)
	BLSRQ BX, BX
	TZCNTQ BX, AX
	RORXQ $32, AX, R15
	ADDQ R12, AX
	ADDQ R15, AX
	MOVQ AX, 60(R14)
	BLSRQ BX, BX
	TZCNTQ BX, AX
	RORXQ $32, AX, R15
	ADDQ R12, AX
	ADDQ R15, AX
	MOVQ AX, 68(R14)
	BLSRQ BX, BX
	TZCNTQ BX, AX
	RORXQ $32, AX, R15
	ADDQ R12, AX
	ADDQ R15, AX
	MOVQ AX, 76(R14)
	ADDQ $80, R14
	BLSRQ BX, BX
	JNZ together

next:
	ADDQ $8, R8
	ADDQ $8, R9
	ADDQ $8, R10
	ADDQ R11, R12
	DECQ R13
	JNZ word

	MOVL (DI), AX
	MOVQ AX, next+48(FP)
	MOVQ c+0(FP), AX
	MOVQ DX, fields+24(FP)
	SUBQ 24(AX), SI
	SHRQ $3, SI
	MOVQ SI, lines+32(FP)
	SUBQ 48(AX), CX
	SHRQ $2, CX
	MOVQ CX, opened+40(FP)
	RET
