/* mbr.S — the first 440 bytes of the drive: what a BIOS runs.
 *
 * A BIOS reads sector 0 to 0000:7C00 and jumps there in real mode, DL being its number for the drive (0x80 for the
 * first, but a stick is often 0x81 or later, and some BIOSes pass nonsense). All this code does is bring the second
 * stage, up to 64 KiB that lie behind the partition table, to 1000:0000, and jump there:
 *
 *     ask for the enhanced disk services (EDD: INT 13h, AH=41h)
 *     read 8 KiB at a time (AH=42h), each up to four times, with a reset of the drive between
 *     compare the sum of what came with the one written below
 *     if anything fails with the drive the BIOS named, try 0x80 to 0x87 in turn
 *     if none works, say so and stop
 *
 * Where the second stage lies, how long it is and its sum are filled in at `record` when the drive is built. The
 * disk's signature and the partition table follow at 440 and are not this file's.
 */
    .intel_syntax noprefix
    .code16
    .text
    .globl _start
    .equ  origin, 0x7c00
    .equ  stage_segment, 0x1000

_start:
    cli
    xor   ax, ax
    mov   ss, ax
    mov   sp, origin
    mov   ds, ax
    mov   es, ax
    sti
    cld
    ljmp  0, normal            /* some BIOSes come as 07C0:0000 */
normal:
    mov   [named], dl
    mov   byte ptr [next], 0x80
    jmp   try

/* One drive after another: the one the BIOS named, then all that might be it. */
another:
    mov   dl, [next]
    inc   byte ptr [next]
    cmp   dl, 0x88
    je    give_up
try:
    mov   [drive], dl
    mov   ah, 0x41
    mov   bx, 0x55aa
    int   0x13
    jc    another
    cmp   bx, 0xaa55
    jne   another

    mov   word ptr [packet + 6], stage_segment
    mov   eax, [record]
    mov   [packet + 8], eax
    mov   bp, [record_sectors]
read:
    mov   byte ptr [tries], 4
again:
    mov   word ptr [packet + 2], 16
    mov   si, offset packet
    mov   dl, [drive]
    mov   ah, 0x42
    int   0x13
    jnc   came
    mov   [error], ah
    xor   ah, ah
    mov   dl, [drive]
    int   0x13                 /* reset, then once more */
    dec   byte ptr [tries]
    jnz   again
    jmp   another
came:
    add   word ptr [packet + 6], 0x200
    add   dword ptr [packet + 8], 16
    sub   bp, 16
    ja    read

/* The sum of its double words, over whole pieces of 8 KiB: 2048 double words each. */
    mov   ax, stage_segment
    mov   fs, ax
    mov   cx, [record_sectors]
    shl   cx, 7                /* 128 double words a sector */
    xor   si, si
    xor   eax, eax
sum:
    add   eax, fs:[si]
    add   si, 4
    loop  sum
    cmp   eax, [record_sum]
    jne   another
    mov   dl, [drive]
    ljmp  stage_segment, 0

give_up:
    mov   al, [error]
    call  hex
    mov   si, offset sorry
say:
    lodsb
    test  al, al
    jz    stop
    call  put
    jmp   say
stop:
    hlt
    jmp   stop

hex:                           /* the BIOS's error as two digits in the message */
    mov   ah, al
    shr   al, 4
    call  digit
    mov   [code], al
    mov   al, ah
    and   al, 15
    call  digit
    mov   [code + 1], al
    ret
digit:
    add   al, '0'
    cmp   al, '9'
    jbe   small
    add   al, 7
small:
    ret
put:
    mov   bx, 7
    mov   ah, 0x0e
    int   0x10
    ret

sorry:
    .ascii "Wild Satchel: the start-up code cannot be read (BIOS error "
code:
    .asciz "00).\r\nTry another port, or build the drive anew."
named:  .byte 0
drive:  .byte 0
next:   .byte 0
tries:  .byte 0
error:  .byte 0
    .balign 4
packet:
    .byte 16, 0
    .word 16, 0, stage_segment
    .quad 0

    .org 424
record:         .quad 0        /* first sector of the second stage */
record_sectors: .word 0        /* a multiple of 16, at most 112 */
record_sum:     .long 0
    .org 440
