#include "textflag.h"

// Which of four words begin inside quotes, a byte for each, by which of them have an odd number of quotes; from the 16th on where the first of them does.
DATA inside<>+0(SB)/4, $0x00000000
DATA inside<>+4(SB)/4, $0xffffff00
DATA inside<>+8(SB)/4, $0xffff0000
DATA inside<>+12(SB)/4, $0x0000ff00
DATA inside<>+16(SB)/4, $0xff000000
DATA inside<>+20(SB)/4, $0x00ffff00
DATA inside<>+24(SB)/4, $0x00ff0000
DATA inside<>+28(SB)/4, $0xff00ff00
DATA inside<>+32(SB)/4, $0x00000000
DATA inside<>+36(SB)/4, $0xffffff00
DATA inside<>+40(SB)/4, $0xffff0000
DATA inside<>+44(SB)/4, $0x0000ff00
DATA inside<>+48(SB)/4, $0xff000000
DATA inside<>+52(SB)/4, $0x00ffff00
DATA inside<>+56(SB)/4, $0x00ff0000
DATA inside<>+60(SB)/4, $0xff00ff00
DATA inside<>+64(SB)/4, $0xffffffff
DATA inside<>+68(SB)/4, $0x000000ff
DATA inside<>+72(SB)/4, $0x0000ffff
DATA inside<>+76(SB)/4, $0xffff00ff
DATA inside<>+80(SB)/4, $0x00ffffff
DATA inside<>+84(SB)/4, $0xff0000ff
DATA inside<>+88(SB)/4, $0xff00ffff
DATA inside<>+92(SB)/4, $0x00ff00ff
DATA inside<>+96(SB)/4, $0xffffffff
DATA inside<>+100(SB)/4, $0x000000ff
DATA inside<>+104(SB)/4, $0x0000ffff
DATA inside<>+108(SB)/4, $0xffff00ff
DATA inside<>+112(SB)/4, $0x00ffffff
DATA inside<>+116(SB)/4, $0xff0000ff
DATA inside<>+120(SB)/4, $0xff00ffff
DATA inside<>+124(SB)/4, $0x00ff00ff
GLOBL inside<>(SB), RODATA|NOPTR, $128

// func settleAVX2(o *outside, m *masks, i, words int, within, begins uint64) (next int, odd uint64)
//
// It does what outside.settleGo does, four words at a time as long as no quote stands otherwise, then one by one. An array of o or of m takes 256 bytes, but for the last.
TEXT ·settleAVX2(SB), NOSPLIT, $0-64
	MOVQ o+0(FP), DI
	MOVQ m+8(FP), SI
	MOVQ i+16(FP), CX
	MOVQ words+24(FP), DX
	MOVQ within+32(FP), R8
	MOVQ begins+40(FP), R9
	XORQ R10, R10 // whether the word begins inside quotes
	XORQ R11, R11 // whether the word before ended with a closing quote
	SUBQ $4, DX
	CMPQ CX, DX
	JGT rest

	VPCMPEQQ Y15, Y15, Y15
	VMOVQ R8, X14
	VPBLENDD $3, Y14, Y15, Y14 // what is looked at of the words
	VMOVQ R9, X13 // where a field begins that no end is before
	VPXOR Y12, Y12, Y12 // ends in the words before
	VPXOR Y11, Y11, Y11 // closing quotes in the words before
	LEAQ inside<>(SB), R12

four:
	VPAND 512(SI)(CX*8), Y14, Y0 // quotes
	VPSLLQ $1, Y0, Y1
	VPXOR Y0, Y1, Y1
	VPSLLQ $2, Y1, Y2
	VPXOR Y2, Y1, Y1
	VPSLLQ $4, Y1, Y2
	VPXOR Y2, Y1, Y1
	VPSLLQ $8, Y1, Y2
	VPXOR Y2, Y1, Y1
	VPSLLQ $16, Y1, Y2
	VPXOR Y2, Y1, Y1
	VPSLLQ $32, Y1, Y2
	VPXOR Y2, Y1, Y1 // each bit tells whether there are an odd number of quotes up to it
	VMOVMSKPD Y1, AX
	MOVL R10, BX
	SHLL $4, BX
	ORL AX, BX
	POPCNTL AX, AX
	VPMOVSXBQ (R12)(BX*4), Y2
	VPXOR Y2, Y1, Y1 // inside quotes
	VPAND (SI)(CX*8), Y14, Y2
	VPANDN Y2, Y1, Y2 // ends
	VPAND 256(SI)(CX*8), Y14, Y3
	VPANDN Y3, Y1, Y3 // line feeds
	VPANDN Y0, Y1, Y4 // closing
	VPAND Y0, Y1, Y5  // opening

	VPERM2I128 $0x21, Y2, Y12, Y6
	VPALIGNR $8, Y6, Y2, Y6 // the ends of each word before
	VPSRLQ $63, Y6, Y6
	VPADDQ Y2, Y2, Y7
	VPOR Y6, Y7, Y6
	VPOR Y13, Y6, Y6 // where fields begin
	VPERM2I128 $0x21, Y4, Y11, Y8
	VPALIGNR $8, Y8, Y4, Y8
	VPSRLQ $63, Y8, Y8
	VPADDQ Y4, Y4, Y7
	VPOR Y8, Y7, Y7 // after closing quotes

	VPOR Y6, Y7, Y8
	VPANDN Y5, Y8, Y8 // opening quotes that stand otherwise
	VPOR Y2, Y5, Y9
	VPANDN Y7, Y9, Y9 // and what follows closing quotes
	VPOR Y8, Y9, Y8
	VPTEST Y8, Y8
	JNZ odd

	VMOVDQU Y2, (DI)(CX*8)
	VMOVDQU Y3, 256(DI)(CX*8)
	VPAND Y6, Y5, Y6
	VMOVDQU Y6, 512(DI)(CX*8)
	VPAND Y7, Y5, Y7
	VMOVDQU Y7, 768(DI)(CX*8)
	ADDL AX, R10
	ANDL $1, R10
	VMOVDQA Y2, Y12
	VMOVDQA Y4, Y11
	VMOVDQA Y15, Y14
	VPXOR Y13, Y13, Y13
	MOVQ $-1, R8
	ADDQ $4, CX
	CMPQ CX, DX
	JLE four

odd:
	// What the word before leaves, where there is one.
	MOVQ i+16(FP), AX
	CMPQ CX, AX
	JEQ between
	VEXTRACTI128 $1, Y12, X0
	VPEXTRQ $1, X0, R9
	SHRQ $63, R9
	VEXTRACTI128 $1, Y11, X0
	VPEXTRQ $1, X0, R11
	SHRQ $63, R11

between:
	VZEROUPPER

rest:
	ADDQ $4, DX
	NEGQ R10 // all bits where the word begins inside quotes
	XORQ R12, R12
	PCMPEQL X1, X1
	CMPQ CX, DX
	JGE done

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
