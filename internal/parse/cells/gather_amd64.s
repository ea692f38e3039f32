#include "textflag.h"

// func keysBMI(spans *Span, stride, n int, data *byte, last int, keys, sizes *[64]uint64) (present, others uint64)
//
// It does what Column.keysOneByOne does for each text, from the last to the first, so that a bit for each moves to its place.
TEXT ·keysBMI(SB), NOSPLIT, $0-72
	MOVQ stride+8(FP), R13
	MOVQ n+16(FP), CX
	MOVQ data+24(FP), DX
	MOVQ last+32(FP), R8
	MOVQ keys+40(FP), R9
	MOVQ sizes+48(FP), R10
	XORQ R11, R11 // present
	XORQ R12, R12 // others
	SHLQ $3, R13  // from field to field, in bytes
	LEAQ -1(CX), SI
	IMULQ R13, SI
	ADDQ spans+0(FP), SI

text:
	MOVL (SI), AX
	MOVL 4(SI), BX
	SUBQ R13, SI
	MOVL AX, DI
	ANDL $0x7fffffff, DI // where it begins
	SUBL DI, BX          // its size; very large where quotes are doubled
	SHRL $31, AX         // whether it is quoted
	CMPL BX, $8
	JHI other
	CMPQ DI, R8
	JGT other
	CMPL AX, BX
	JHI other

	// It moves up by 64 bits less its size, which no instruction does at once where it is empty.
	MOVQ (DX)(DI*1), DI
	MOVL $8, AX
	SUBL BX, AX
	SHLL $2, AX
	SHLXQ AX, DI, DI
	SHLXQ AX, DI, DI
	MOVQ DI, -8(R9)(CX*8)
	MOVQ BX, -8(R10)(CX*8)
	ADDQ R12, R12
	NEGL BX // carries where there is a text
	ADCQ R11, R11
	DECQ CX
	JNZ text
	JMP done

other:
	XORL BX, BX
	MOVQ BX, -8(R9)(CX*8)
	MOVQ BX, -8(R10)(CX*8)
	ADDQ R11, R11
	LEAQ 1(R12)(R12*1), R12
	DECQ CX
	JNZ text

done:
	MOVQ R11, present+56(FP)
	MOVQ R12, others+64(FP)
	RET

// func wordsSSE(spans *Span, stride, n int, data *byte, last int, words *[64]lexical.Word, masks *[16][2]lexical.Word) (quoted, others uint64)
//
// It does what Column.wordsOneByOne does for each text, from the last to the first, but for what quotes have to do with it.
TEXT ·wordsSSE(SB), NOSPLIT, $0-72
	MOVQ stride+8(FP), R13
	MOVQ n+16(FP), CX
	MOVQ data+24(FP), DX
	MOVQ last+32(FP), R8
	MOVQ words+40(FP), R9
	MOVQ masks+48(FP), R10
	XORQ R11, R11 // quoted
	XORQ R12, R12 // others
	SHLQ $3, R13  // from field to field, in bytes
	LEAQ -1(CX), SI
	MOVQ SI, AX
	SHLQ $4, AX
	ADDQ AX, R9
	IMULQ R13, SI
	ADDQ spans+0(FP), SI

text:
	MOVL (SI), AX
	MOVL 4(SI), BX
	SUBQ R13, SI
	MOVL AX, DI
	ANDL $0x7fffffff, DI // where it begins
	ORL BX, AX           // the top bit says whether it has quotes
	ANDL $0x7fffffff, BX
	SUBL DI, BX // its size
	CMPL BX, $15
	JHI other
	CMPQ DI, R8
	JGT other
	SHLL $5, BX
	MOVOU (DX)(DI*1), X0
	MOVOU (R10)(BX*1), X1
	MOVOU 16(R10)(BX*1), X2
	PAND X1, X0
	POR X2, X0
	MOVOU X0, (R9)
	SUBQ $16, R9
	ADDQ R12, R12
	ADDL AX, AX // carries where there are quotes
	ADCQ R11, R11
	DECQ CX
	JNZ text
	JMP done

other:
	PXOR X0, X0
	MOVOU X0, (R9)
	SUBQ $16, R9
	ADDQ R11, R11
	LEAQ 1(R12)(R12*1), R12
	DECQ CX
	JNZ text

done:
	MOVQ R11, quoted+56(FP)
	MOVQ R12, others+64(FP)
	RET
