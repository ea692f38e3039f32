#include "textflag.h"

DATA fourBits<>+0(SB)/8, $1
DATA fourBits<>+8(SB)/8, $2
DATA fourBits<>+16(SB)/8, $4
DATA fourBits<>+24(SB)/8, $8
GLOBL fourBits<>(SB), RODATA|NOPTR, $32

// func lookNumbersAVX2(codes *uint32, values, scales *int64, n int, read uint64, ids *uint16, size, base, scale int64) (present uint64)
//
// It does what numberTable.lookOneByOne does: four texts at a time it makes of values what they are in ids, and then goes from the last text to the first, so that
// a bit for each moves to its place.
TEXT ·lookNumbersAVX2(SB), NOSPLIT, $0-80
	MOVQ values+8(FP), DI
	MOVQ scales+16(FP), SI
	MOVQ n+24(FP), CX
	MOVQ read+32(FP), DX
	VPBROADCASTQ size+48(FP), Y13
	VPBROADCASTQ base+56(FP), Y12
	VPBROADCASTQ scale+64(FP), Y11
	VMOVDQU fourBits<>(SB), Y10
	VPCMPEQQ Y14, Y14, Y14 // -1
	ADDQ $3, CX
	SHRQ $2, CX

group:
	VMOVDQU (DI), Y0
	VPSUBQ Y12, Y0, Y0
	VPCMPEQQ (SI), Y11, Y1
	MOVQ DX, X2
	VPBROADCASTQ X2, Y2
	VPAND Y10, Y2, Y2
	VPCMPEQQ Y10, Y2, Y2
	VPAND Y2, Y1, Y1
	VPCMPGTQ Y0, Y13, Y2
	VPAND Y2, Y1, Y1
	VPCMPGTQ Y14, Y0, Y2
	VPAND Y2, Y1, Y1
	VPAND Y1, Y0, Y0
	VMOVDQU Y0, (DI)
	SHRQ $4, DX
	ADDQ $32, DI
	ADDQ $32, SI
	DECQ CX
	JNZ group
	VZEROUPPER

	MOVQ codes+0(FP), R10
	MOVQ values+8(FP), DI
	MOVQ n+24(FP), CX
	MOVQ ids+40(FP), R8
	XORQ R11, R11 // present

text:
	MOVQ -8(DI)(CX*8), AX
	MOVWLZX (R8)(AX*2), AX // the number plus one
	MOVL AX, BX
	NEGL BX // carries where there is one
	ADCQ R11, R11
	CMPL AX, $1 // carries where there is none
	ADCL $-1, AX
	MOVL AX, -4(R10)(CX*4)
	DECQ CX
	JNZ text
	MOVQ R11, present+72(FP)
	RET
