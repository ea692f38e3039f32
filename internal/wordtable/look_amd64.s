#include "textflag.h"

// func lookBMI(codes *uint32, texts *lexical.Word, n int, slots *uint16, shift int, keys *lexical.Word) (present, missed uint64)
//
// It goes from the last text to the first, so that a bit for each moves to its place.
TEXT ·lookBMI(SB), NOSPLIT, $0-64
	MOVQ codes+0(FP), R10
	MOVQ texts+8(FP), SI
	MOVQ n+16(FP), CX
	MOVQ slots+24(FP), R8
	MOVQ shift+32(FP), R13
	MOVQ keys+40(FP), R9
	MOVQ $0x9e3779b97f4a7c15, R14
	MOVQ $0xd6e8feb86659fd93, R15
	XORQ R11, R11 // present
	XORQ R12, R12 // missed
	MOVQ CX, AX
	SHLQ $4, AX
	ADDQ AX, SI

text:
	// The slot is that of lexical.Word.Hash.
	SUBQ $16, SI
	MOVQ (SI), DX
	MOVQ 8(SI), BX
	XORQ R14, DX
	MOVQ BX, AX
	XORQ R15, AX
	MULXQ AX, AX, DX
	XORQ AX, DX
	SHRXQ R13, DX, DX
	MOVWLZX (R8)(DX*2), AX // the number plus one of what belongs there
	MOVQ AX, DI
	SHLQ $4, DI
	MOVQ (R9)(DI*1), DX
	XORQ (SI), DX
	XORQ 8(R9)(DI*1), BX
	ORQ BX, DX
	JNZ miss
	ADDQ R12, R12
	MOVL AX, DX
	NEGL DX // carries where there is one
	ADCQ R11, R11
	MOVL R11, DX
	ANDL $1, DX
	SUBL DX, AX
	MOVL AX, -4(R10)(CX*4)
	DECQ CX
	JNZ text
	JMP done

miss:
	MOVL $0, -4(R10)(CX*4)
	ADDQ R11, R11
	LEAQ 1(R12)(R12*1), R12
	DECQ CX
	JNZ text

done:
	MOVQ R11, present+48(FP)
	MOVQ R12, missed+56(FP)
	RET
