#include "textflag.h"

DATA tens<>+0(SB)/8, $0x010a010a010a010a // 10, 1 by bytes
DATA tens<>+8(SB)/8, $0x0001006400010064 // 100, 1 by two bytes
DATA tens<>+16(SB)/8, $10000
DATA tens<>+24(SB)/8, $0x3030303030303030 // zeros
DATA tens<>+32(SB)/8, $0x2e2e2e2e2e2e2e2e // points
DATA tens<>+40(SB)/8, $0x0909090909090909 // the largest digit
DATA tens<>+48(SB)/8, $0x0101010101010101
DATA tens<>+56(SB)/8, $64
DATA tens<>+64(SB)/8, $0x2d // a minus
DATA tens<>+72(SB)/8, $0xff
GLOBL tens<>(SB), RODATA|NOPTR, $80

// func numbersAVX2(values, scales *[64]int64, keys, sizes *[64]uint64, groups int) (read uint64)
//
// It does in each quarter of a register what Number does; what is 1 or 0 there is all bits or none here.
TEXT ·numbersAVX2(SB), NOSPLIT, $0-48
	MOVQ values+0(FP), DI
	MOVQ scales+8(FP), SI
	MOVQ keys+16(FP), R8
	MOVQ sizes+24(FP), R9
	MOVQ groups+32(FP), DX
	XORQ AX, AX // read
	XORQ CX, CX // its next bit
	VPXOR Y15, Y15, Y15
	VPBROADCASTQ tens<>+32(SB), Y14 // points
	VPBROADCASTQ tens<>+24(SB), Y13 // zeros
	VPBROADCASTQ tens<>+56(SB), Y12 // 64
	VPBROADCASTQ tens<>+40(SB), Y11 // nines
	VPCMPEQQ Y10, Y10, Y10 // all bits, or -1

group:
	VMOVDQU (R8), Y0 // key
	VMOVDQU (R9), Y1 // size

	// Y2 negative: the byte that the text begins with is a minus
	VPSLLQ $3, Y1, Y2
	VPSUBQ Y2, Y12, Y2
	VPSRLVQ Y2, Y0, Y2
	VPBROADCASTQ tens<>+72(SB), Y3
	VPAND Y3, Y2, Y2
	VPBROADCASTQ tens<>+64(SB), Y3
	VPCMPEQQ Y3, Y2, Y2

	// Y3 the lowest bit of the first point, Y4 that there is none
	VPCMPEQB Y14, Y0, Y3
	VPSUBQ Y3, Y15, Y4
	VPAND Y4, Y3, Y3
	VPCMPEQQ Y15, Y3, Y4

	// Y5 behind, Y6 before, Y7 scale
	VPSLLQ $8, Y3, Y5
	VPSUBQ Y5, Y15, Y5
	VPBROADCASTQ tens<>+48(SB), Y7
	VPAND Y7, Y5, Y7
	VPSADBW Y15, Y7, Y7
	VPANDN Y7, Y4, Y7
	VPOR Y4, Y5, Y5
	VPADDQ Y10, Y3, Y6
	VPANDN Y6, Y4, Y6

	// Y1 count = size - 1 + negative - none, those being -1 or 0
	VPADDQ Y2, Y1, Y1
	VPADDQ Y10, Y1, Y1
	VPSUBQ Y4, Y1, Y1

	// Y0 the digits at the top, Y5 at the bottom, Y8 how far that is
	VPAND Y5, Y0, Y5
	VPAND Y6, Y0, Y0
	VPSLLQ $8, Y0, Y0
	VPOR Y5, Y0, Y0
	VPXOR Y13, Y0, Y0
	VPSLLQ $3, Y1, Y8
	VPSUBQ Y8, Y12, Y8
	VPSRLVQ Y8, Y0, Y5
	VPSLLVQ Y8, Y5, Y0

	// Y3 odd: a byte that is no digit, a point without digits behind it
	VPSUBUSB Y11, Y5, Y3
	VPCMPEQQ Y15, Y7, Y6
	VPANDN Y6, Y4, Y6
	VPOR Y6, Y3, Y3

	// too few digits, a leading zero before others
	VPSUBQ Y10, Y7, Y6
	VPCMPGTQ Y1, Y6, Y8
	VPOR Y8, Y3, Y3
	VPCMPGTQ Y6, Y1, Y6
	VPBROADCASTQ tens<>+72(SB), Y8
	VPAND Y8, Y5, Y5
	VPCMPEQQ Y15, Y5, Y5
	VPAND Y5, Y6, Y6
	VPOR Y6, Y3, Y3

	// Y0 the value
	VPBROADCASTQ tens<>+0(SB), Y8
	VPMADDUBSW Y8, Y0, Y0
	VPBROADCASTQ tens<>+8(SB), Y8
	VPMADDWD Y8, Y0, Y0
	VPSRLQ $32, Y0, Y5
	VPBROADCASTQ tens<>+16(SB), Y8
	VPMULUDQ Y8, Y0, Y0
	VPADDQ Y5, Y0, Y0

	// a minus zero
	VPCMPEQQ Y15, Y0, Y5
	VPAND Y2, Y5, Y5
	VPOR Y5, Y3, Y3
	VPXOR Y2, Y0, Y0
	VPSUBQ Y2, Y0, Y0

	VMOVDQU Y0, (DI)
	VMOVDQU Y7, (SI)
	VPCMPEQQ Y15, Y3, Y3
	VMOVMSKPD Y3, BX
	SHLQ CX, BX
	ORQ BX, AX
	ADDQ $4, CX
	ADDQ $32, DI
	ADDQ $32, SI
	ADDQ $32, R8
	ADDQ $32, R9
	DECQ DX
	JNZ group
	VZEROUPPER
	MOVQ AX, read+40(FP)
	RET
