#include "textflag.h"

DATA stamp<>+0(SB)/8, $0x2d30302d30303030 // 0000-00-
DATA stamp<>+8(SB)/8, $0x30303a3030003030 // 00, the separator, 00:00
DATA stamp<>+16(SB)/8, $0x0009090009090909 // the most that a byte may be above those
DATA stamp<>+24(SB)/8, $0x0909000909000909
DATA stamp<>+32(SB)/8, $0x0908060503020100 // where the digits of those are
DATA stamp<>+40(SB)/8, $0x808080800f0e0c0b
DATA stamp<>+48(SB)/8, $0x0000000030303a30 // 0:00
DATA stamp<>+56(SB)/8, $0
DATA stamp<>+64(SB)/8, $0xffffffff09090009 // the most that a byte may be above those
DATA stamp<>+72(SB)/8, $0xffffffffffffffff
DATA stamp<>+80(SB)/8, $0x8080808080808080 // where the digits of the seconds are
DATA stamp<>+88(SB)/8, $0x8080030280808080
DATA stamp<>+96(SB)/8, $0x010a010a010a010a // 10, 1 by bytes
DATA stamp<>+104(SB)/8, $0x010a010a010a010a
DATA stamp<>+112(SB)/8, $0x001f000c00630063 // the largest century, year in it, month, day
DATA stamp<>+120(SB)/8, $0x0000003b003b0017 // hour, minute, second
DATA stamp<>+128(SB)/8, $0x0001000100000000 // the smallest of them
DATA stamp<>+136(SB)/8, $0
DATA stamp<>+144(SB)/8, $0x00000001000c04b0 // months in a century, a year, a month
DATA stamp<>+152(SB)/8, $0x00000001003c0e10 // seconds in an hour, a minute, a second
GLOBL stamp<>(SB), RODATA|NOPTR, $160

// func timestampsAVX2(values *[64]int64, data *byte, places *[64]Place, n int, months *[2400]int32, separator, size, last, or, mark int) (read uint64)
//
// It reads the texts from the last to the first, so that a bit for each moves to its place.
TEXT ·timestampsAVX2(SB), NOSPLIT, $0-88
	MOVQ values+0(FP), R8
	MOVQ data+8(FP), DX
	MOVQ places+16(FP), R9
	MOVQ n+24(FP), CX
	MOVQ months+32(FP), R10
	MOVQ separator+40(FP), AX
	MOVQ size+48(FP), R11
	MOVQ last+56(FP), R12
	XORQ R13, R13 // read
	VMOVDQU stamp<>+0(SB), X15
	VPINSRB $10, AX, X15, X15
	VMOVDQU stamp<>+16(SB), X14
	VMOVDQU stamp<>+32(SB), X13
	VMOVDQU stamp<>+48(SB), X12
	VMOVDQU stamp<>+64(SB), X11
	VMOVDQU stamp<>+80(SB), X10
	VMOVDQU stamp<>+96(SB), X9
	VMOVDQU stamp<>+112(SB), X8
	VMOVDQU stamp<>+128(SB), X7
	VMOVDQU stamp<>+144(SB), X6

text:
	MOVL -8(R9)(CX*8), SI
	MOVL -4(R9)(CX*8), DI
	CMPQ DI, R11
	JNE other
	CMPQ SI, R12
	JHI other
	ADDQ DX, SI
	VMOVDQU (SI), X0
	VMOVD 15(SI), X1
	MOVBLZX 19(SI), DI
	ORQ or+64(FP), DI
	CMPQ DI, mark+72(FP)
	JNE other

	// X2, X3 what the bytes are above the least that they may be, X4 those that are too much
	VPSUBB X15, X0, X2
	VPSUBB X12, X1, X3
	VPSUBUSB X14, X2, X4
	VPSUBUSB X11, X3, X5
	VPOR X5, X4, X4

	// X2 the numbers, by two bytes, X4 also those that are too large or too small
	VPSHUFB X13, X2, X2
	VPSHUFB X10, X3, X3
	VPOR X3, X2, X2
	VPMADDUBSW X9, X2, X2
	VPCMPGTW X8, X2, X3
	VPCMPGTW X2, X7, X5
	VPOR X3, X4, X4
	VPOR X5, X4, X4
	VPTEST X4, X4
	JNZ other

	// DI months since the year 0, AX seconds of the day, BX the day
	VPMADDWD X6, X2, X3
	VPHADDD X3, X3, X3
	VMOVQ X3, AX
	VPEXTRW $3, X2, BX
	MOVL AX, DI
	SHRQ $32, AX
	SUBL $(1900*12+1), DI
	CMPL DI, $2400
	JCC other
	MOVLQSX (R10)(DI*4), DI
	MOVL DI, SI
	ANDL $31, SI
	CMPL BX, SI
	JHI other
	SARQ $5, DI
	ADDQ BX, DI
	IMULQ $86400, DI
	ADDQ AX, DI
	IMULQ $1000000, DI
	MOVQ DI, -8(R8)(CX*8)
	LEAQ 1(R13)(R13*1), R13
	DECQ CX
	JNZ text
	JMP done

other:
	MOVQ $0, -8(R8)(CX*8)
	ADDQ R13, R13
	DECQ CX
	JNZ text

done:
	MOVQ R13, read+80(FP)
	RET
