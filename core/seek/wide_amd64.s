#include "textflag.h"

// Which class of base64's alphabet a high and a low half of a byte can belong to;
// a byte is of the alphabet where the two share one.
//   1: + - /   2: 0-9   4: A-O, a-o   8: P-Z, _   16: p-z
DATA high<>+0(SB)/8, $0x1004080402010000
DATA high<>+8(SB)/8, $0x0000000000000000
GLOBL high<>(SB), RODATA|NOPTR, $16

// low half:  0: 2|8|16   1-9: 2|4|8|16   A: 4|8|16   B: 1|4   C: 4   D: 1|4   E: 4   F: 1|4|8
DATA low<>+0(SB)/8, $0x1e1e1e1e1e1e1e1a
DATA low<>+8(SB)/8, $0x0d040504051c1e1e
GLOBL low<>(SB), RODATA|NOPTR, $16

// One byte four times, to be spread over a register.
#define BYTES(name, value) \
	DATA name<>+0(SB)/4, $value; \
	GLOBL name<>(SB), RODATA|NOPTR, $4

BYTES(backslash, 0x5c5c5c5c)
BYTES(half, 0x0f0f0f0f)

// func tripleBlocks(b *byte, blocks int, t *tables) int
TEXT ·tripleBlocks(SB), NOSPLIT, $0-32
	MOVQ           b+0(FP), SI
	MOVQ           blocks+8(FP), CX
	MOVQ           t+16(FP), DX
	MOVQ           SI, DI
	VPBROADCASTD   half<>(SB), Y0
	VBROADCASTI128 (DX), Y1
	VBROADCASTI128 16(DX), Y2
	VBROADCASTI128 32(DX), Y3
	VBROADCASTI128 48(DX), Y4
	VBROADCASTI128 64(DX), Y5
	VBROADCASTI128 80(DX), Y6
	VPXOR          Y7, Y7, Y7

tripleLoop:
	VMOVDQU (SI), Y8
	VMOVDQU 1(SI), Y9
	VPAND   Y0, Y8, Y10
	VPSRLW  $4, Y8, Y8
	VPAND   Y0, Y8, Y8
	VPSHUFB Y10, Y1, Y10
	VPSHUFB Y8, Y2, Y8
	VPAND   Y8, Y10, Y8
	VPAND   Y0, Y9, Y10
	VPSRLW  $4, Y9, Y9
	VPAND   Y0, Y9, Y9
	VPSHUFB Y10, Y3, Y10
	VPSHUFB Y9, Y4, Y9
	VPAND   Y9, Y10, Y9
	VPAND   Y8, Y9, Y8
	VPTEST  Y8, Y8
	JNZ     triplePair

tripleNext:
	ADDQ $32, SI
	DECQ CX
	JNZ  tripleLoop
	SUBQ DI, SI
	MOVQ SI, ret+24(FP)
	VZEROUPPER
	RET

triplePair:
	VMOVDQU   2(SI), Y9
	VPAND     Y0, Y9, Y10
	VPSRLW    $4, Y9, Y9
	VPAND     Y0, Y9, Y9
	VPSHUFB   Y10, Y5, Y10
	VPSHUFB   Y9, Y6, Y9
	VPAND     Y9, Y10, Y9
	VPCMPEQB  Y7, Y9, Y9  // where no third stands
	VPCMPEQB  Y7, Y8, Y8  // where no pair stands
	VPOR      Y8, Y9, Y8
	VPMOVMSKB Y8, AX
	NOTL      AX
	TESTL     AX, AX
	JZ        tripleNext
	BSFL      AX, AX
	SUBQ      DI, SI
	ADDQ      AX, SI
	MOVQ      SI, ret+24(FP)
	VZEROUPPER
	RET

// func runBlocks(b *byte, blocks int) (at int, runs uint64)
TEXT ·runBlocks(SB), NOSPLIT, $0-32
	MOVQ           b+0(FP), SI
	MOVQ           blocks+8(FP), CX
	MOVQ           SI, DI
	VBROADCASTI128 high<>(SB), Y0
	VBROADCASTI128 low<>(SB), Y1
	VPBROADCASTD   half<>(SB), Y2
	VPXOR          Y3, Y3, Y3
	VPCMPEQB       Y9, Y9, Y9   // the block before: nothing of the alphabet
	VPXOR          Y7, Y7, Y7   // and no eight bytes of it together

runLoop:
	VMOVDQU  (SI), Y4
	VPAND    Y2, Y4, Y5
	VPSRLW   $4, Y4, Y6
	VPAND    Y2, Y6, Y6
	VPSHUFB  Y5, Y1, Y5
	VPSHUFB  Y6, Y0, Y6
	VPAND    Y5, Y6, Y5
	VPCMPEQB Y3, Y5, Y5  // what is not of the alphabet
	VPCMPEQQ Y3, Y5, Y6  // eight at a place divisible by eight: sixteen in a row hold such
	VPOR     Y6, Y7, Y8
	VPTEST   Y8, Y8
	JNZ      runNear

runNext:
	VMOVDQA Y5, Y9
	VMOVDQA Y6, Y7
	ADDQ    $32, SI
	DECQ    CX
	JNZ     runLoop
	XORQ    AX, AX

runFound:
	SUBQ DI, SI
	MOVQ SI, at+16(FP)
	MOVQ AX, runs+24(FP)
	VZEROUPPER
	RET

runNear:
	VPMOVMSKB Y5, AX
	NOTL      AX
	SHLQ      $32, AX
	VPMOVMSKB Y9, DX
	NOTL      DX
	ORQ       DX, AX
	MOVQ      AX, BX
	SHRQ      $1, BX
	ANDQ      BX, AX
	MOVQ      AX, BX
	SHRQ      $2, BX
	ANDQ      BX, AX
	MOVQ      AX, BX
	SHRQ      $4, BX
	ANDQ      BX, AX
	MOVQ      AX, BX
	SHRQ      $8, BX
	ANDQ      BX, AX
	JNZ       runFound
	JMP       runNext

// func eitherBlocks(b *byte, blocks int, c, d byte) int
TEXT ·eitherBlocks(SB), NOSPLIT, $0-32
	MOVQ         b+0(FP), SI
	MOVQ         blocks+8(FP), CX
	MOVQ         SI, DI
	VPBROADCASTB c+16(FP), Y0
	VPBROADCASTB d+17(FP), Y1

eitherLoop:
	VMOVDQU   (SI), Y2
	VPCMPEQB  Y0, Y2, Y3
	VPCMPEQB  Y1, Y2, Y2
	VPOR      Y2, Y3, Y2
	VPMOVMSKB Y2, AX
	TESTL     AX, AX
	JNZ       eitherFound
	ADDQ      $32, SI
	DECQ      CX
	JNZ       eitherLoop
	SUBQ      DI, SI
	MOVQ      SI, ret+24(FP)
	VZEROUPPER
	RET

eitherFound:
	BSFL AX, AX
	SUBQ DI, SI
	ADDQ AX, SI
	MOVQ SI, ret+24(FP)
	VZEROUPPER
	RET

// func quoteBytes(b *byte, n int, q byte) int
TEXT ·quoteBytes(SB), NOSPLIT, $0-32
	MOVQ         b+0(FP), SI
	MOVQ         n+8(FP), CX
	MOVBLZX      q+16(FP), R8
	VPBROADCASTB q+16(FP), Y0
	VPBROADCASTD backslash<>(SB), Y1
	LEAQ         -32(SI)(CX*1), R9 // the last place where 32 bytes stand
	MOVQ         SI, DI

quoteLoop:
	CMPQ      SI, R9
	JA        quoteDone
	VMOVDQU   (SI), Y2
	VPCMPEQB  Y0, Y2, Y3
	VPCMPEQB  Y1, Y2, Y2
	VPOR      Y2, Y3, Y2
	VPMOVMSKB Y2, AX
	TESTL     AX, AX
	JNZ       quoteEither
	ADDQ      $32, SI
	JMP       quoteLoop

quoteEither:
	BSFL    AX, AX
	ADDQ    AX, SI
	MOVBLZX (SI), BX
	CMPL    BX, R8
	JEQ     quoteDone
	ADDQ    $2, SI
	JMP     quoteLoop

quoteDone:
	SUBQ DI, SI
	MOVQ SI, ret+24(FP)
	VZEROUPPER
	RET

// func plainBlocks(b *byte, blocks int) int
TEXT ·plainBlocks(SB), NOSPLIT, $0-24
	MOVQ  b+0(FP), SI
	MOVQ  blocks+8(FP), CX
	MOVQ  SI, DI
	VPXOR Y0, Y0, Y0

plainLoop:
	VMOVDQU   (SI), Y1
	VMOVDQU   32(SI), Y2
	VMOVDQU   64(SI), Y3
	VMOVDQU   96(SI), Y4
	VPMINSB   Y1, Y2, Y1
	VPMINSB   Y3, Y4, Y3
	VPMINSB   Y1, Y3, Y1
	VPCMPGTB  Y0, Y1, Y1
	VPMOVMSKB Y1, AX
	CMPL      AX, $-1
	JNE       plainDone
	SUBQ      $-128, SI
	DECQ      CX
	JNZ       plainLoop

plainDone:
	SUBQ DI, SI
	MOVQ SI, ret+16(FP)
	VZEROUPPER
	RET
