/* stage.S — the second stage's assembler: into protected mode, and back for every call of the BIOS.
 *
 * The BIOS works in real mode, where an address reaches 1 MiB; the program around it is C in flat 32-bit protected
 * mode, where it reaches 4 GiB. This file is the door between both. Memory:
 *
 *     0x00500 - 0x07bff   stack while the BIOS works
 *     0x10000 - 0x1ffff   this code and its data, as read from the drive
 *     0x20000 - 0x2ffff   zeroed data
 *     0x30000 - 0x3ffff   what the BIOS reads, 64 KiB, crossing no border of 64 KiB
 *     0x50000 - 0x5ffff   stack of the program
 *     0x60000 - 0x6ffff   the kernel's real-mode part, its heap and its command line
 *     0x100000 -          the kernel; from the top of memory downwards the initial RAM disks
 *
 * Interrupts are on only while the BIOS works: the program has no handlers of its own.
 */
    .intel_syntax noprefix
    .equ  flat_code, 0x08
    .equ  flat_data, 0x10
    .equ  real_code, 0x18
    .equ  real_data, 0x20

    .section .entry, "awx" /* one section: the assembler then knows every distance from _start */
    .code16
    .globl _start
_start:
    jmp   entry
    .org  4
    .ascii "satchel 2nd "
entry:
    cli
    cld
    mov   ax, cs
    mov   ds, ax
    mov   [start_drive - _start], dl
    xor   ax, ax
    mov   ss, ax
    mov   sp, 0x7c00
    lgdt  [gdt_pointer - _start]
    mov   eax, cr0
    or    al, 1
    mov   cr0, eax
    .byte 0x66, 0xea           /* a far jump with a 32-bit target */
    .long in_flat
    .word flat_code

    .code32
in_flat:
    mov   ax, flat_data
    mov   ds, ax
    mov   es, ax
    mov   fs, ax
    mov   gs, ax
    mov   ss, ax
    mov   esp, 0x5fff0
    mov   edi, offset zeroed_begin
    mov   ecx, offset zeroed_end
    sub   ecx, edi
    xor   eax, eax
    rep   stosb
    movzx eax, byte ptr [start_drive]
    push  eax
    call  bios_main
halt:
    hlt
    jmp   halt

/* void bios_call(unsigned number, struct bios_registers *r): one BIOS interrupt, registers in and out. */
    .globl bios_call
bios_call:
    push  ebp
    push  ebx
    push  esi
    push  edi
    mov   eax, [esp + 20]
    mov   [number], al
    mov   esi, [esp + 24]
    mov   edi, offset registers
    mov   ecx, 8
    rep   movsd
    mov   [program_stack], esp
    ljmp  real_code, to_real - _start

    .code16
to_real:
    mov   ax, real_data
    mov   ds, ax
    mov   es, ax
    mov   ss, ax
    mov   eax, cr0
    and   al, 0xfe
    mov   cr0, eax
    ljmp  0x1000, real - _start
real:
    xor   ax, ax
    mov   ss, ax
    mov   sp, 0x7c00
    mov   fs, ax
    mov   gs, ax
    mov   ax, cs
    mov   ds, ax
    lidt  [real_idt - _start]
    mov   ax, [r_es - _start]
    mov   es, ax
    mov   eax, [r_eax - _start]
    mov   ebx, [r_ebx - _start]
    mov   ecx, [r_ecx - _start]
    mov   edx, [r_edx - _start]
    mov   edi, [r_edi - _start]
    mov   esi, [r_esi - _start]
    push  word ptr [r_ds - _start]
    pop   ds
    sti
    .byte 0xcd                 /* int; its number is written here before each call */
number:
    .byte 0
    cli
    cld
    pushfd
    push  ds
    push  cs
    pop   ds
    mov   [r_eax - _start], eax
    mov   [r_ebx - _start], ebx
    mov   [r_ecx - _start], ecx
    mov   [r_edx - _start], edx
    mov   [r_esi - _start], esi
    mov   [r_edi - _start], edi
    mov   [r_es - _start], es
    pop   ax
    mov   [r_ds - _start], ax
    pop   eax
    mov   [r_flags - _start], eax
    lgdt  [gdt_pointer - _start]  /* a BIOS may have used its own */
    mov   eax, cr0
    or    al, 1
    mov   cr0, eax
    .byte 0x66, 0xea
    .long back
    .word flat_code

    .code32
back:
    mov   ax, flat_data
    mov   ds, ax
    mov   es, ax
    mov   fs, ax
    mov   gs, ax
    mov   ss, ax
    mov   esp, [program_stack]
    mov   edi, [esp + 24]
    mov   esi, offset registers
    mov   ecx, 8
    rep   movsd
    pop   edi
    pop   esi
    pop   ebx
    pop   ebp
    ret

/* void bios_enter_kernel(void): the x86 boot protocol's 16-bit entry, "Running the kernel": DS = ES = SS = the
 * real-mode part, SP at the end of its heap, interrupts off, and a jump 0x20 segments behind its begin. */
    .globl bios_enter_kernel
bios_enter_kernel:
    ljmp  real_code, leave - _start
    .code16
leave:
    mov   ax, real_data
    mov   ds, ax
    mov   es, ax
    mov   ss, ax
    mov   eax, cr0
    and   al, 0xfe
    mov   cr0, eax
    ljmp  0x1000, left - _start
left:
    mov   ax, cs
    mov   ds, ax
    lidt  [real_idt - _start]
    mov   ax, 0x6000
    mov   ds, ax
    mov   es, ax
    mov   fs, ax
    mov   gs, ax
    mov   ss, ax
    mov   sp, 0xe000
    ljmp  0x6020, 0

    .balign 8
gdt:
    .quad 0
    .quad 0x00cf9a000000ffff   /* flat code, 4 GiB */
    .quad 0x00cf92000000ffff   /* flat data */
    .quad 0x00009a010000ffff   /* 16-bit code at 0x10000, 64 KiB */
    .quad 0x000092000000ffff   /* 16-bit data at 0 */
gdt_pointer:
    .word gdt_pointer - gdt - 1
    .long gdt
    .balign 4
real_idt:
    .word 0x3ff
    .long 0
    .balign 4
registers:
r_eax:   .long 0
r_ebx:   .long 0
r_ecx:   .long 0
r_edx:   .long 0
r_esi:   .long 0
r_edi:   .long 0
r_ds:    .word 0
r_es:    .word 0
r_flags: .long 0
program_stack: .long 0
    .globl start_drive
start_drive: .byte 0
